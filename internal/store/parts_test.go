package store

import (
	"encoding/json"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/s2"
	"github.com/stretchr/testify/require"
)

// What is packed is unpacked; what is cut off, or grows beyond what a trace may hold, is refused.
func TestParts(t *testing.T) {
	var to packer // the same for all
	long := []byte(strings.Repeat("<saml:Attribute>", 1000))
	for name, p := range map[string]part{
		"nothing":     {},
		"steps":       {steps: [][]byte{[]byte(`{"a":1}`), long, []byte(`{}`)}},
		"inputs":      {inputs: long},
		"both":        {steps: [][]byte{long}, inputs: []byte(`{}`)},
		"empty steps": {steps: [][]byte{{}, {}}, inputs: []byte(`1`)},
	} {
		packed := to.pack(p)
		got, err := unpack(packed)
		require.NoError(t, err, name)
		require.Len(t, got.steps, len(p.steps), name)
		for i := range p.steps {
			require.Equal(t, string(p.steps[i]), string(got.steps[i]), name)
		}
		require.Equal(t, string(p.inputs), string(got.inputs), name)
		require.Less(t, len(packed), len(long)/5, name)
		for _, plain := range []string{"\x05\x01a", "\xff\xff\xff\xff\xff\xff\xff\xff\xff\x01", "\x01\x09", ""} {
			_, err := unpack(s2.EncodeSnappy(nil, []byte(plain)))
			require.ErrorIs(t, err, errCut, "%q", plain)
		}
		_, err = unpack(s2.EncodeSnappy(nil, make([]byte, 3*traceOctets)))
		require.Error(t, err)
	}
}

// Steps that an earlier build kept, each in a row of its own, stand before those that come now.
func TestStepsOfEarlierBuilds(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(filepath.Join(dir, "data"), filepath.Join(dir, "key"), TraceLimits{Keep: 10},
		slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	defer s.Close()
	s.Traces.Record(TraceHead{ID: "A", Verified: true}, []any{"second"}, "new inputs")
	s.Traces.settle(t.Context())
	require.NoError(t, s.traces.Create(&StepRow{Trace: "A", Sealed: s.Seal("trace", []byte(`"first"`))}).Error)
	require.NoError(t, s.traces.Create(&EntryRow{Trace: "A", Sealed: s.Seal("trace inputs", []byte(`"old inputs"`))}).Error)
	require.NoError(t, s.traces.Exec("UPDATE trace_rows SET verified = NULL, octets = NULL, steps = NULL").Error,
		"as in a row of before there were these columns")
	s.Traces.Append("A", []any{"third"}, "", "")
	_, steps, err := s.Traces.Get(t.Context(), "A")
	require.NoError(t, err)
	require.Equal(t, `["first","second","third"]`, joined(t, steps))
	inputs, err := s.Traces.Inputs(t.Context(), "A")
	require.NoError(t, err)
	require.Equal(t, `["old inputs","new inputs"]`, joined(t, inputs))
}

func joined(t *testing.T, all []json.RawMessage) string {
	octets, err := json.Marshal(all)
	require.NoError(t, err)
	return string(octets)
}
