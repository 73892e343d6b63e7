package e2e

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/standin"
)

// big is a signed aggregate of 10,000 entities in a file, made once for all
// benchmarks of a run.
var big struct{ file, pem string }

func bigAggregate(b *testing.B) {
	if big.file != "" {
		return
	}
	dir, err := os.MkdirTemp(filepath.Dir(filepath.Dir(shared.dir)), "innergate-bench-")
	require.NoError(b, err)
	pair, err := standin.LoadPair("", "federation")
	require.NoError(b, err)
	octets, err := (&standin.Federation{Title: "Big", Entities: 10000, Pair: pair}).Aggregate(0, time.Now())
	require.NoError(b, err)
	b.Logf("the aggregate is %d MB", len(octets)>>20)
	big.file, big.pem = filepath.Join(dir, "aggregate.xml"), filepath.Join(dir, "signer.pem")
	require.NoError(b, os.WriteFile(big.file, octets, 0o600))
	require.NoError(b, os.WriteFile(big.pem, pair.Certificate.PEM(), 0o600))
}

var kilobytes = regexp.MustCompile(`(\d+) kB`)

// memory reads a line of a process's status, in MB.
func memory(b *testing.B, pid int, line string) float64 {
	octets, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(b, err)
	_, after, ok := strings.Cut(string(octets), line+":")
	require.True(b, ok)
	n, err := strconv.ParseFloat(kilobytes.FindStringSubmatch(after)[1], 64)
	require.NoError(b, err)
	return n / 1024
}

// The floor: a general-purpose program verifies the same file.
func BenchmarkAggregateXmlsec1(b *testing.B) {
	bigAggregate(b)
	peak := int64(0)
	for b.Loop() {
		cmd := exec.Command("xmlsec1", "--verify", "--pubkey-cert-pem", big.pem, "--id-attr:ID",
			"urn:oasis:names:tc:SAML:2.0:metadata:EntitiesDescriptor", big.file)
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, string(out))
		peak = max(peak, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
	}
	b.ReportMetric(float64(peak)/1024, "MB-peak")
}

// Reading and verifying, in this process.
func BenchmarkAggregateRead(b *testing.B) {
	bigAggregate(b)
	text, err := os.ReadFile(big.pem)
	require.NoError(b, err)
	debug.FreeOSMemory() // of making the aggregate
	for b.Loop() {
		f, err := os.Open(big.file)
		require.NoError(b, err)
		a, err := saml.ReadAggregate(f, saml.Trusting{Now: time.Now(), Keys: saml.TrustKeys(keys.Read(text)...)},
			func(*saml.Entity) error { return nil })
		require.NoError(b, err)
		require.Equal(b, 10000, a.Entities)
		require.NoError(b, f.Close())
	}
}

// Taking in through the running service, by the command line: sent, kept, read,
// verified and indexed. The memory is what the service needs beyond its idle
// state.
func BenchmarkAggregateTakenIn(b *testing.B) {
	bigAggregate(b)
	d, err := startDemo(b.TempDir(), "127.0.0.1:0")
	require.NoError(b, err)
	defer d.stop()
	time.Sleep(time.Second)
	idle := memory(b, d.cmd.Process.Pid, "VmRSS")
	extra := 0.0
	for i := 0; b.Loop(); i++ {
		require.NoError(b, os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", d.cmd.Process.Pid), []byte("5"), 0))
		cmd := exec.Command(binary, "aggregate", "add", fmt.Sprint("big-", i), "--metadata", big.file, "trustKey=@"+big.pem)
		cmd.Env = append(os.Environ(), "INNERGATE_URL="+d.Base, "INNERGATE_TOKEN="+d.Token)
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, string(out))
		extra = max(extra, memory(b, d.cmd.Process.Pid, "VmHWM")-idle)
	}
	b.ReportMetric(extra, "MB-above-idle")
}

// crowded is a demo with so many applications, once a command was run there.
func crowded(b *testing.B, applications int, first ...string) *demo {
	d, err := startDemo(b.TempDir(), "127.0.0.1:0")
	require.NoError(b, err)
	if len(first) > 0 {
		d.bench(b, first...)
	}
	pair, err := standin.LoadPair("", "federation")
	require.NoError(b, err)
	octets, err := (&standin.Federation{Title: "Many", Entities: applications*4/3 + 60, Pair: pair,
		Fault: "unsigned"}).Aggregate(0, time.Now())
	require.NoError(b, err)
	c, ctx := d.client(), context.Background()
	run := func(j api.Job, err error) api.Job {
		require.NoError(b, err)
		j, err = c.Wait(ctx, j, func(api.Job) {})
		require.NoError(b, err)
		return j
	}
	run(client.Upload(ctx, c, api.UploadAggregate, api.None{}, api.NewAggregate{Name: "many"},
		strings.NewReader(string(octets))))
	l, err := client.Call(ctx, c, api.ListEntities, api.EntityFilter{Named: api.Name("many"), Role: "application",
		Limit: applications - 2})
	require.NoError(b, err)
	var ids []string
	for _, e := range l.Items {
		ids = append(ids, e.EntityID)
	}
	j := run(client.Call(ctx, c, api.TakeEntities, api.To("many", api.TakeOver{Kind: "application", Entities: ids})))
	require.Len(b, j.Report.Taken, applications-2)
	return d
}

// bench runs a command.
func (d *demo) bench(b *testing.B, args ...string) {
	b.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "INNERGATE_URL="+d.Base, "INNERGATE_TOKEN="+d.Token)
	out, err := cmd.CombinedOutput()
	require.NoError(b, err, string(out))
}

// ticks is how long the gate has computed, in hundredths of a second.
func (d *demo) ticks(b *testing.B) float64 {
	octets, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", d.cmd.Process.Pid))
	require.NoError(b, err)
	words := strings.Fields(string(octets[strings.LastIndexByte(string(octets), ')')+1:]))
	user, err := strconv.ParseFloat(words[11], 64)
	require.NoError(b, err)
	system, err := strconv.ParseFloat(words[12], 64)
	require.NoError(b, err)
	return user + system
}

// The portal of somebody in 200 groups, who enters 300 of 5,000 applications: what it costs the gate, and what
// travels.
func BenchmarkPortal(b *testing.B) {
	d := crowded(b, 4700, "object", "put", "defaults/new-records", "everyone=no")
	defer d.stop()
	c, ctx := d.client(), context.Background()
	var in []api.UnitName
	for i := range 200 {
		name := fmt.Sprint("crew-", i)
		_, err := client.Call(ctx, c, api.PutObject, api.SentToObject[api.ObjectChange]{OneObject: api.Of("group", name),
			Body: api.ObjectChange{Settings: map[string]any{"title": name, "inside": "operations"}}})
		require.NoError(b, err)
		in = append(in, api.UnitName{Kind: "group", Name: name})
	}
	for i := range 300 {
		_, err := client.Call(ctx, c, api.RecordsOf("application").Add, api.Body(api.NewRecord{Name: fmt.Sprint("duty-", i),
			Given: api.Given{Typed: federation.Typed{"link": "https://duty.wrenmoor.example/"}},
			Settings: federation.Settings{"title": fmt.Sprint("Duty board ", i), "admissions": fmt.Sprintf("crew-%d=yes",
				i%200), "description": fmt.Sprintf("Who is on which duty, and who stands by, on line %x",
				sha256.Sum256([]byte{byte(i), byte(i >> 8)}))}}))
		require.NoError(b, err)
	}
	_, err := client.Call(ctx, c, api.ChangePerson,
		api.SentToPerson[api.PersonChange]{OnePerson: api.OnePerson{Number: 10}, Body: api.PersonChange{Join: in}})
	require.NoError(b, err)
	v := newVisitor(b).get(d.Base + "/")
	v.post(v.page.action, url.Values{"provider": {"wrenmoor-staff"}}).as("jon.wray")
	require.GreaterOrEqual(b, len(v.tiles()), 300)
	v.http.Transport = &http.Transport{DisableCompression: true}
	before, sent, looks := d.ticks(b), 0, 0
	for b.Loop() {
		req, _ := http.NewRequest(http.MethodGet, d.Base+"/", nil)
		req.Header.Set("Accept-Encoding", "gzip")
		res, err := v.http.Do(req)
		require.NoError(b, err)
		n, err := io.Copy(io.Discard, res.Body)
		require.NoError(b, errors.Join(err, res.Body.Close()))
		sent, looks = int(n), looks+1
	}
	b.ReportMetric((d.ticks(b)-before)*10/float64(looks), "ms-of-the-gate")
	b.ReportMetric(float64(sent)/1000, "kB-sent")
}

func benchmarkPages(b *testing.B, applications int) {
	d := crowded(b, applications)
	defer d.stop()
	ask := func(queries ...string) func(*testing.B) {
		return func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				req, _ := http.NewRequest(http.MethodGet, d.Base+"/api/v1/applications?limit=25&"+queries[i%len(queries)], nil)
				req.Header.Set("Authorization", "Bearer "+d.Token)
				res, err := http.DefaultClient.Do(req)
				require.NoError(b, err)
				_, err = io.Copy(io.Discard, res.Body)
				require.NoError(b, err)
				require.NoError(b, res.Body.Close())
			}
		}
	}
	b.Run("List", ask(""))
	// Among 10,000: 1,700 match, 200 to 400 match, one matches, none does.
	b.Run("Search", ask("search=roster", "search=alder", "search=quince", "search=thornmoor", "search=incident-log.fern",
		"search=willowmere+7", "search=possessions.yarrowdale", "search=nobody"))
}

func BenchmarkPages10(b *testing.B)    { benchmarkPages(b, 10) }
func BenchmarkPages10000(b *testing.B) { benchmarkPages(b, 10000) }

// A start with 10,000 applications on record, until the gate is ready: stand-ins,
// which the demo starts too, included.
func BenchmarkStart10000(b *testing.B) {
	d := crowded(b, 10000)
	d.stop()
	for b.Loop() {
		again, err := startDemo(d.dir, "127.0.0.1:0")
		require.NoError(b, err)
		b.StopTimer()
		again.stop()
		b.StartTimer()
	}
}

// The same without stand-ins, as a service starts.
func BenchmarkServe10000(b *testing.B) {
	d := crowded(b, 10000)
	d.stop()
	data := filepath.Join(d.dir, "data")
	address := freePorts(b)
	config := filepath.Join(d.dir, "gate.yaml")
	require.NoError(b, os.WriteFile(config, []byte("base: "+d.Base+"\nlisten: "+address+"\ndata: "+filepath.Join(data,
		"data")+"\nsealKey: "+filepath.Join(data, "seal.key")+"\n"), 0o600))
	for b.Loop() {
		cmd := exec.Command(binary, "serve", "--config", config)
		require.NoError(b, cmd.Start())
		require.Eventually(b, func() bool {
			res, err := http.Get("http://" + address + "/healthz")
			return err == nil && errors.Join(res.Body.Close()) == nil && res.StatusCode == http.StatusOK
		}, 20*time.Second, 5*time.Millisecond)
		b.StopTimer()
		require.NoError(b, cmd.Process.Signal(syscall.SIGTERM))
		_ = cmd.Wait()
		b.StartTimer()
	}
}
