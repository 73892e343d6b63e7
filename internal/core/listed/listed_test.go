package listed_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/listed"
)

func Example() {
	var w listed.Words
	_ = json.Unmarshal([]byte(`"openid  email"`), &w)
	octets, _ := json.Marshal(w)
	fmt.Println(w, string(octets))
	// Output: openid email ["openid","email"]
}

func TestBothFormsAreReadAndTheNewOneWritten(t *testing.T) {
	for given, want := range map[string]string{`""`: `[]`, `[]`: `[]`, `null`: `[]`, `"a\n b"`: `["a","b"]`,
		`["a","b"]`: `["a","b"]`,
		`["a b"]`:   "", `[""]`: "", `[7]`: "", `{}`: ""} {
		var w listed.Words
		err := json.Unmarshal([]byte(given), &w)
		require.Equal(t, want != "", err == nil, "%s: %v", given, err)
		if octets, _ := json.Marshal(w); want != "" {
			require.JSONEq(t, want, string(octets), given)
		}
	}
	for given, want := range map[string]string{`""`: `{}`, `"z=1 a b=c=d"`: `{"z":"1","a":"","b":"c=d"}`,
		`{"z":"1","a":""}`: `{"z":"1","a":""}`, `{"a":"b c"}`: "", `{"":"x"}`: "", `{"a":7}`: "", `["a"]`: ""} {
		var p listed.Pairs
		err := json.Unmarshal([]byte(given), &p)
		require.Equal(t, want != "", err == nil, "%s: %v", given, err)
		if octets, _ := json.Marshal(p); want != "" {
			require.Equal(t, want, string(octets), "%s keeps its order", given)
		}
	}
	escaped := listed.Form{Sign: "=", Last: true, Escaped: true}
	for text, want := range map[string]listed.Pairs{"a=b": {{"a", "b"}}, "a%20b=x%25": {{"a b", "x%"}},
		"a=b=c": {{"a=b", "c"}}} {
		require.Equal(t, want, escaped.Parse(text))
		require.Equal(t, text, escaped.Line(want))
	}
}
