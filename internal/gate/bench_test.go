package gate

import (
	"crypto"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/records"
)

// benchRig makes a gate with so many applications.
func benchRig(b *testing.B, applications int) *rig {
	r := newRigFor(b)
	snap := r.Records.Snapshot()
	var apps []records.Edit
	for i := len(snap.Applications()); i < applications; i++ {
		a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: fmt.Sprint("urn:app-", i)}}}
		a.Name = federation.Name(fmt.Sprint("app-", i))
		apps = append(apps, records.Edit{Record: a, Quiet: true})
	}
	require.NoError(b, r.Records.Put(ctx, tester, apps, nil))
	return r
}

// A whole crossing: AuthnRequest, question, answer, Response; the test's own
// signing of the request and the answer is in it, two RSA signatures.
func benchmarkCrossing(b *testing.B, applications int) {
	r := benchRig(b, applications)
	for b.Loop() {
		r.enter(nil)
		r.time = r.time.Add(crossing.Life)
		require.NoError(b, r.Crossings.Sweep(ctx))
	}
}

func BenchmarkCrossing(b *testing.B)                  { benchmarkCrossing(b, 1) }
func BenchmarkCrossing10000Applications(b *testing.B) { benchmarkCrossing(b, 10000) }

// The floor under BenchmarkCrossing: one RSA signature; a crossing has three of
// them, one the gate's and two of the test.
func BenchmarkCrossingFloor(b *testing.B) {
	r := newRigFor(b)
	sum := make([]byte, 32)
	for b.Loop() {
		_, err := r.idp.Signer().Sign(nil, sum, crypto.SHA256)
		require.NoError(b, err)
	}
}
