package oidc_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/oidc"
)

func TestIdentifiersOfOpenID(t *testing.T) {
	for text, fits := range map[string]bool{"https://accounts.oakhollow.example": true,
		"https://accounts.oakhollow.example/":            true,
		"https://accounts.oakhollow.example/{tenant}/v2": true, "http://127.0.0.1:9000": true,
		"http://accounts.oakhollow.example":     false,
		"https://accounts.oakhollow.example/?x": false, "https://accounts.oakhollow.example/#x": false, "oakhollow": false,
		"": false} {
		_, err := oidc.ParseIssuer(text)
		require.Equal(t, fits, err == nil, "%q: %v", text, err)
	}
	for text, fits := range map[string]bool{"planner": true, "a b": true, "~!": true, "": false, "pl\u00e4ne": false,
		"a\tb": false} {
		_, err := oidc.ParseClientID(text)
		require.Equal(t, fits, err == nil, "%q: %v", text, err)
	}
}
