package standin_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/standin"
)

func TestX(t *testing.T) {
	pair, err := standin.LoadPair("", "federation")
	require.NoError(t, err)
	f := &standin.Federation{Title: "Northern lines", Entities: 10000, Pair: pair}
	t0 := time.Now()
	doc, err := f.Aggregate(0, time.Now())
	require.NoError(t, err)
	t.Log(len(doc), time.Since(t0))
	os.WriteFile("/tmp/agg.xml", doc, 0o644)
	os.WriteFile("/tmp/agg.pem", pair.Certificate.PEM(), 0o644)
	t0 = time.Now()
	n := 0
	a, err := saml.ReadAggregate(bytes.NewReader(doc), saml.Trusting{Now: time.Now(), Keys: nil}, func(e *saml.Entity) error {
		n++
		require.NoError(t, e.Problem)
		return nil
	})
	require.NoError(t, err)
	t.Log("no keys", time.Since(t0), n, a.Entities)
	t0 = time.Now()
	_, err = saml.ReadAggregate(bytes.NewReader(doc), saml.Trusting{Now: time.Now(), Keys: saml.TrustKeys(pair.Certificate)}, func(e *saml.Entity) error { return nil })
	require.NoError(t, err)
	t.Log("keys", time.Since(t0))
	_ = exec.Command
	_ = filepath.Join
}
