package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/oidc"
)

// loadIssuer is this process as a provider of OpenID Connect.
type loadIssuer struct {
	*httptest.Server
	signer *oidc.Signer
	nonces sync.Map // by code
}

// newLoadIssuer starts one, whose tokens are signed by the provider's key.
func (l *load) newLoadIssuer(t *testing.T) *loadIssuer {
	t.Helper()
	signer, err := oidc.NewSigner(l.idp.Signer())
	require.NoError(t, err)
	keys, err := oidc.WriteKeys([]oidc.Key{signer.Key()})
	require.NoError(t, err)
	i := &loadIssuer{signer: signer}
	mux := http.NewServeMux()
	i.Server = httptest.NewServer(mux)
	t.Cleanup(i.Close)
	says := func(path string, body any) {
		octets, err := json.Marshal(body)
		require.NoError(t, err)
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write(octets) // a caller that is gone reads nothing
		})
	}
	says("/.well-known/openid-configuration", map[string]any{"issuer": i.URL,
		"authorization_endpoint": i.URL + "/authorize", "token_endpoint": i.URL + "/token", "jwks_uri": i.URL +
			"/jwks", "response_types_supported": []string{"code"},
		"subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{signer.Algorithm},
		"code_challenge_methods_supported": []string{"S256"}})
	says("/jwks", json.RawMessage(keys))
	mux.HandleFunc("/token", i.token)
	return i
}

// token redeems a code.
func (i *loadIssuer) token(w http.ResponseWriter, r *http.Request) {
	nonce, known := i.nonces.LoadAndDelete(r.FormValue("code"))
	if !known {
		http.Error(w, `{"error":"invalid_grant"}`, http.StatusBadRequest)
		return
	}
	who, _, _ := strings.Cut(r.FormValue("code"), ".")
	now := time.Now()
	id, err := i.signer.Sign(oidc.IDToken, map[string]any{"iss": i.URL, "aud": "load", "sub": who,
		"email": who + "@load.example", "email_verified": true, "groups": []string{"drivers",
			"load"}, "nonce": nonce, "iat": now.Unix(), "auth_time": now.Unix(),
		"exp": now.Add(time.Minute).Unix()})
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"access_token": fresh(), "token_type": "Bearer", "id_token": id,
		"expires_in": 60})
}

// answers is where the gate is sent back to from its question to this provider.
func (i *loadIssuer) answers(asked url.Values, n int64) string {
	code := fmt.Sprintf("person-%d.%s", n, fresh())
	i.nonces.Store(code, asked.Get("nonce"))
	return asked.Get("redirect_uri") + "?" + url.Values{"code": {code}, "state": {asked.Get("state")}}.Encode()
}

// slow is the gate's program with so long put into each time that it waits for the disk; "" if the tool for it is not
// installed.
func slow(t *testing.T, delay time.Duration) string {
	tracer, err := exec.LookPath("strace")
	if err != nil {
		return ""
	}
	path := filepath.Join(t.TempDir(), "innergate")
	script := fmt.Sprintf("#!/bin/sh\nexec %s -D -f --seccomp-bpf -qq -o /dev/null -e trace=fsync,fdatasync "+
		"-e inject=fsync,fdatasync:delay_exit=%d %s \"$@\"\n", tracer, delay.Microseconds(), binary)
	require.NoError(t, os.WriteFile(path, []byte(script), 0o700))
	return path
}
