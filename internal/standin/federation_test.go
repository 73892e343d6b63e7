package standin_test

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/standin"
)

// Each fault of the publisher leads to the finding it says.
func TestFaultsOfAFederation(t *testing.T) {
	pair, err := standin.LoadPair("", "federation")
	require.NoError(t, err)
	for _, f := range standin.FederationFaults() {
		octets, err := (&standin.Federation{Title: "Lines", Entities: 12, Pair: pair, Fault: f.Name}).Aggregate(0,
			time.Now())
		require.NoError(t, err)
		var single error
		_, err = saml.ReadAggregate(bytes.NewReader(octets), saml.Trusting{Now: time.Now(),
			Keys: saml.TrustKeys(pair.Certificate)}, func(e *saml.Entity) error {
			if e.Problem != nil {
				single = e.Problem
			}
			return nil
		})
		if err == nil {
			err = single
		}
		require.True(t, finding.Is(err, finding.Code(f.Finding)), "%s: %v", f.Name, err)
	}
	_, err = (&standin.Federation{Fault: "expird"}).Handler()
	require.ErrorContains(t, err, "expired")
}

func TestFederationPublishes(t *testing.T) {
	pair, err := standin.LoadPair("", "federation")
	require.NoError(t, err)
	f := &standin.Federation{Title: "Lines", Entities: 8, Pair: pair, Keys: t.TempDir()}
	h, err := f.Handler()
	require.NoError(t, err)
	srv := httptest.NewServer(h)
	defer srv.Close()
	get := func(path, tag string) (int, string, string) {
		req, err := http.NewRequest(http.MethodGet, srv.URL+path, nil)
		require.NoError(t, err)
		req.Header.Set("If-None-Match", tag)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, res.Header.Get("ETag"), string(body)
	}
	ids := func(document string) (out []string) {
		_, err := saml.ReadAggregate(bytes.NewReader([]byte(document)), saml.Trusting{Now: time.Now(),
			Keys: saml.TrustKeys(pair.Certificate)}, func(e *saml.Entity) error {
			out = append(out, e.EntityID)
			return nil
		})
		require.NoError(t, err)
		return out
	}
	_, text, certificate := get("/certificate", "")
	require.Empty(t, text)
	require.Equal(t, pair.Certificate.SHA256(), keys.Read([]byte(certificate))[0].SHA256())
	status, tag, first := get("/metadata", "")
	require.Equal(t, 200, status)
	status, _, _ = get("/metadata", tag)
	require.Equal(t, http.StatusNotModified, status)
	res, err := http.Post(srv.URL+"/edition", "", nil)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	status, _, second := get("/metadata", tag)
	require.Equal(t, 200, status, "the next edition is another document")
	require.Equal(t, ids(first)[1:], ids(second)[:7], "one goes, one comes")
	_, _, page := get("/", "")
	require.Contains(t, page, "edition 2")
	again, err := (&standin.Federation{Title: "Lines", Entities: 8, Pair: pair, Keys: f.Keys}).Aggregate(0, time.Now())
	require.NoError(t, err)
	certificates := func(document string) []string {
		return regexp.MustCompile(`X509Certificate>\s[^<]+`).FindAllString(document, 3)
	}
	require.Equal(t, certificates(first), certificates(string(again)), "members keep their keys when it starts again")
}
