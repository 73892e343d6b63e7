package e2e

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// longer says how many times the short form of these tests is to be run:
// make crash sets it.
func longer() int {
	n, _ := strconv.Atoi(os.Getenv("INNERGATE_LONGER"))
	return max(n, 1)
}

// serving starts the demo through a shell that prepares its surroundings.
func serving(t *testing.T, prepare string, dir string) *demo {
	ready := filepath.Join(dir, "ready.json")
	_ = os.Remove(ready)
	d := &demo{dir: dir, out: &bytes.Buffer{}}
	d.cmd = exec.Command("sh", "-c", prepare+` exec "$0" demo --data "$1" --listen 127.0.0.1:0 --ready "$2"`, binary,
		filepath.Join(dir, "data"), ready)
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	d.cmd.Stdout, d.cmd.Stderr = log, log
	require.NoError(t, d.cmd.Start())
	require.NoError(t, log.Close())
	for range 300 {
		if octets, err := os.ReadFile(ready); err == nil {
			require.NoError(t, json.Unmarshal(octets, &d.Ready))
			return d
		}
		time.Sleep(50 * time.Millisecond)
	}
	d.stop()
	text, _ := os.ReadFile(filepath.Join(dir, "log"))
	t.Fatalf("the demo did not get ready: %s", text)
	return nil
}

func (d *demo) healthy() bool {
	res, err := (&http.Client{Timeout: 5 * time.Second}).Get(d.Base + "/healthz")
	if err != nil {
		return false
	}
	defer res.Body.Close()
	return res.StatusCode == http.StatusOK
}

// A terminal that is closed and a reader of the log that is gone end nothing.
func TestSignalsThatMeanSomethingElse(t *testing.T) {
	dir := t.TempDir()
	ready := filepath.Join(dir, "ready.json")
	d := &demo{dir: dir, cmd: exec.Command(binary, "demo", "--data", filepath.Join(dir, "data"), "--listen",
		"127.0.0.1:0",
		"--ready", ready)}
	pipe, err := d.cmd.StdoutPipe()
	require.NoError(t, err)
	d.cmd.Stderr = d.cmd.Stdout
	require.NoError(t, d.cmd.Start())
	t.Cleanup(d.stop)
	require.Eventually(t, func() bool {
		octets, err := os.ReadFile(ready)
		return err == nil && json.Unmarshal(octets, &d.Ready) == nil
	},
		15*time.Second, 50*time.Millisecond)
	require.NoError(t, pipe.Close())
	require.NoError(t, d.cmd.Process.Signal(syscall.SIGHUP))
	for i := range 20 { // each is a line in the log that nobody reads
		res, err := http.Get(fmt.Sprintf("%s/open/nobody-%d", d.Base, i))
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
	}
	require.True(t, d.healthy())
}

// Connections that say nothing, more of them than there are file descriptors, end
// nothing; when they are gone, people pass as before.
func TestFileDescriptorsRunOut(t *testing.T) {
	dir := t.TempDir()
	d := serving(t, "ulimit -n 260;", dir)
	t.Cleanup(d.stop)
	address := strings.TrimPrefix(d.Base, "http://")
	var open []net.Conn
	for range 400 * longer() {
		c, err := net.DialTimeout("tcp", address, time.Second)
		if err != nil {
			break
		}
		_, _ = c.Write([]byte("GET / HT"))
		open = append(open, c)
	}
	require.NoError(t, d.cmd.Process.Signal(syscall.Signal(0)), "it runs")
	for _, c := range open {
		_ = c.Close()
	}
	require.Eventually(t, d.healthy, 10*time.Second, 100*time.Millisecond)
	_, err := client.Call(t.Context(), d.client(), api.RecordsOf("provider").List, api.Listing{})
	require.NoError(t, err)
}

// Killed at any moment: everything that was acknowledged is there, and the gate
// starts again.
func TestKilledUnderLoad(t *testing.T) {
	dir := t.TempDir()
	var mu sync.Mutex
	acknowledged, changed := map[string]bool{}, map[int64]bool{}
	for round := range 3 * longer() {
		d := serving(t, "", dir)
		var told []int64 // of whom there is the event that their number was changed
		for after := int64(0); ; {
			page, err := client.Call(t.Context(), d.client(), api.ListEvents, api.EventFilter{After: after, Limit: 1000})
			require.NoError(t, err)
			for _, e := range page.Items {
				if slices.Equal(e.Did.Values, []string{"employeeNumber"}) && e.Did.State == "" {
					told = append(told, e.Person)
				}
			}
			if after = page.Next; len(page.Items) == 0 {
				break
			}
		}
		for n := range changed {
			require.Contains(t, told, n, "the change of person %d was acknowledged", n)
			p, err := client.Call(t.Context(), d.client(), api.ShowPerson, api.Number(n))
			require.NoError(t, err)
			require.Len(t, p.Values, 2, "person %d", n)
		}
		c := d.client()
		l, err := client.Call(t.Context(), c, api.ListTokens, api.None{})
		require.NoError(t, err)
		have := map[string]bool{}
		for _, x := range l.Items {
			have[x.Name] = true
		}
		for name := range acknowledged {
			require.True(t, have[name], "%s was acknowledged", name)
		}
		var wg sync.WaitGroup
		for worker := range 8 {
			wg.Go(func() {
				for n := 0; ; n++ {
					name := fmt.Sprintf("t-%d-%d-%d", round, worker, n)
					if worker%2 == 1 {
						p, err := client.Call(t.Context(), c, api.AddPerson,
							api.Body(api.NewPerson{PersonChange: api.PersonChange{Values: map[string][]string{"displayName": {name}}}}))
						if err != nil {
							return
						}
						_, err = client.Call(t.Context(), c, api.ChangePerson, api.ToPerson(p.Number,
							api.PersonChange{Values: map[string][]string{"employeeNumber": {name}}}))
						if err != nil {
							return
						}
						mu.Lock()
						changed[p.Number] = true
						mu.Unlock()
						continue
					}
					if _, err := client.Call(t.Context(), c, api.AddToken, api.Body(api.NewToken{Name: name,
						Expires: time.Time{}})); err != nil {
						return
					}
					mu.Lock()
					acknowledged[name] = true
					mu.Unlock()
				}
			})
		}
		time.Sleep(time.Duration(300+round%8*70) * time.Millisecond)
		require.NoError(t, d.cmd.Process.Kill())
		_ = d.cmd.Wait()
		wg.Wait()
	}
	require.NotEmpty(t, acknowledged)
	require.NotEmpty(t, changed)
}

// A list that was being taken in when the gate was killed goes on where it was: nobody is
// half there, and nobody twice.
func TestKilledWhileAListComesIn(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	var list strings.Builder
	list.WriteString("userName,displayName,employeeNumber\n")
	const many = 12000
	for i := range many {
		fmt.Fprintf(&list, "u%d,Person %d,N-%d\n", i, i, i)
	}
	taken := func(d *demo, digest string) (*api.PeopleImported, error) {
		j, err := client.Upload(ctx, d.client(), api.ImportPeople, api.None{}, api.PeopleImport{Digest: digest},
			strings.NewReader(list.String()))
		if err == nil {
			j, err = d.client().Wait(ctx, j, func(api.Job) {})
		}
		return j.Imported, err
	}
	var before int64
	for round := range 2 * longer() {
		d := serving(t, "", dir)
		if page, err := client.Call(ctx, d.client(), api.ListPeople, api.PeoplePage{Limit: 1}); round == 0 {
			require.NoError(t, err)
			before = page.Total
		}
		seen, err := taken(d, "")
		require.NoError(t, err)
		require.Equal(t, many, seen.New+seen.Same, "whoever is there is there as the list has them")
		done := make(chan struct{})
		go func() {
			defer close(done)
			_, _ = taken(d, seen.Digest) // the gate goes away under it
		}()
		time.Sleep(time.Duration(250+round%5*150) * time.Millisecond)
		require.NoError(t, d.cmd.Process.Kill())
		_ = d.cmd.Wait()
		<-done
	}
	d := serving(t, "", dir)
	defer d.stop()
	seen, err := taken(d, "")
	require.NoError(t, err)
	if seen.New > 0 {
		_, err = taken(d, seen.Digest)
		require.NoError(t, err)
	}
	for _, f := range []api.PeoplePage{{Limit: 1}, {PeopleFilter: api.PeopleFilter{Search: "n-11999"}, Limit: 2},
		{PeopleFilter: api.PeopleFilter{Search: "person 77"}, Limit: 1}} {
		page, err := client.Call(ctx, d.client(), api.ListPeople, f)
		require.NoError(t, err)
		require.NotEmpty(t, page.Items)
		if f.Search == "" {
			require.EqualValues(t, before+many, page.Total)
		}
	}
}

// A full disk: what is acknowledged is there, what is not is refused with words;
// the gate says that it is not ready, and goes on when there is room again.
func TestTheDiskIsFull(t *testing.T) {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=12m", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	d := serving(t, "", dir)
	t.Cleanup(d.stop)
	c := d.client()
	stuffing, err := os.Create(filepath.Join(dir, "stuffing"))
	require.NoError(t, err)
	_, err = io.Copy(stuffing, endless{})
	require.ErrorIs(t, err, syscall.ENOSPC)
	acknowledged := []string{}
	failed := 0
	for n := range 300 * longer() {
		name := fmt.Sprintf("full-%d", n)
		if _, err := client.Call(t.Context(), c, api.AddToken, api.Body(api.NewToken{Name: name,
			Expires: time.Time{}})); err == nil {
			acknowledged = append(acknowledged, name)
		} else {
			failed++
		}
		if failed > 20 {
			break
		}
	}
	require.Positive(t, failed)
	require.True(t, d.healthy())
	res, err := http.Get(d.Base + "/readyz")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusServiceUnavailable, res.StatusCode)

	require.NoError(t, stuffing.Truncate(0))
	require.NoError(t, stuffing.Close())
	require.Eventually(t, func() bool {
		res, err := http.Get(d.Base + "/readyz")
		return err == nil && res.Body.Close() == nil && res.StatusCode == http.StatusOK
	}, 10*time.Second, 200*time.Millisecond)
	l, err := client.Call(t.Context(), c, api.ListTokens, api.None{})
	require.NoError(t, err)
	have := map[string]bool{}
	for _, x := range l.Items {
		have[x.Name] = true
	}
	for _, name := range acknowledged {
		require.True(t, have[name], name)
	}
	_, err = client.Call(t.Context(), c, api.AddToken, api.Body(api.NewToken{Name: "after", Expires: time.Time{}}))
	require.NoError(t, err)
}

// endless is stuffing.
type endless struct{}

func (endless) Read(b []byte) (int, error) { return len(b), nil }

// peak is the most memory that the process has held, in MB.
func (d *demo) peak(t *testing.T) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", d.cmd.Process.Pid))
	require.NoError(t, err)
	kib, err := strconv.Atoi(regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindStringSubmatch(string(text))[1])
	require.NoError(t, err)
	return kib / 1024
}

// workers is how many send at a time: of small messages very many.
func workers(rule string) int {
	if strings.Contains(rule, "just under") && longer() > 1 {
		return 900
	}
	return 60
}

// Whatever strangers of one network or of many send, and however many at once: memory, log
// and disk stay in bounds, and a person of another network passes meanwhile.
func TestFloodStaysInBounds(t *testing.T) {
	dir := t.TempDir()
	d := serving(t, "", dir)
	t.Cleanup(d.stop)
	bomb := func(n int) string {
		var b bytes.Buffer
		w, _ := flate.NewWriter(&b, flate.BestCompression)
		_, _ = io.WriteString(w, "<a>"+strings.Repeat("<b/>", n/4)+"</a>")
		_ = w.Close()
		return url.QueryEscape(base64.StdEncoding.EncodeToString(b.Bytes()))
	}(900 << 10)
	big := base64.StdEncoding.EncodeToString([]byte("<a>" + strings.Repeat(`<b c="d"/>`, 90<<10) + "</a>"))
	var far atomic.Int32 // whether the flood comes from many networks
	var dialled atomic.Uint32
	transport := &http.Transport{MaxIdleConnsPerHost: 1000, DialContext: func(ctx context.Context, n, a string) (net.Conn,
		error) {
		at := net.IPv4(127, 9, 0, 1)
		if far.Load() > 0 {
			at = net.IPv4(127, 10, 0, byte(dialled.Add(1)%200+1))
		}
		return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: at}}).DialContext(ctx, n, a)
	}}
	hc := &http.Client{Transport: transport, Timeout: 60 * time.Second}
	post := func(path, kind, body string) func(int) (*http.Response, error) {
		return func(int) (*http.Response, error) { return hc.Post(d.Base+path, kind, strings.NewReader(body)) }
	}
	const form = "application/x-www-form-urlencoded"
	elements := strings.Repeat("<b/>", 15<<10)
	parameters := strings.Repeat("a&", 31<<10)
	floods := map[string]func(n int) (*http.Response, error){
		"bombs": func(int) (*http.Response, error) { return hc.Get(d.Base + "/saml/idp/sso?SAMLRequest=" + bomb) },
		"large bodies": func(int) (*http.Response, error) {
			return hc.PostForm(d.Base+"/saml/sp/wrenmoor-staff/acs", url.Values{"SAMLResponse": {big}})
		},
		"bodies of nobody": func(int) (*http.Response, error) {
			return hc.Post(d.Base+"/api/v1/providers/preview", "application/json", strings.NewReader(`{"metadata":"`+big+`"}`))
		},
		"elements just under 64 KiB":   post("/saml/idp/artifact", "text/xml", "<a>"+elements+"</a>"),
		"parameters just under 64 KiB": post("/oidc/op/token", form, parameters),
		"parameters at user-info":      post("/oidc/op/userinfo", form, parameters),
		"parameters of a sign-in":      post("/oidc/op/authorize", form, parameters),
		"parameters everywhere": func(n int) (*http.Response, error) {
			at := []string{"/oidc/op/par", "/oidc/op/introspect", "/oidc/op/revoke", "/oidc/op/logout", "/crossing/x/form",
				"/crossing/x",
				"/oidc/rp/lantern-members/start", "/oidc/rp/lantern-members/backchannel-logout", "/saml/sp/acs", "/saml/idp/sso"}
			return hc.Post(d.Base+at[n%len(at)], form, strings.NewReader(parameters))
		},
		"parameters of a provider": post("/oidc/rp/lantern-members/callback", form, parameters),
		"elements in a form": post("/saml/idp/sso", form, "SAMLRequest="+
			url.QueryEscape(base64.StdEncoding.EncodeToString([]byte("<a>"+elements+"</a>")))),
		"what may be elements, sealed": post("/saml/sp/acs", form, "SAMLResponse="+
			url.QueryEscape(base64.StdEncoding.EncodeToString([]byte("<EncryptedData>"+elements+"</EncryptedData>")))),
		"lists of nothing": post("/api/v1/console-session", "application/json", "["+
			strings.Repeat("[],", 20<<10)+"[]]"),
		"starts": func(n int) (*http.Response, error) {
			return hc.Get(fmt.Sprintf("%s/open/crew-roster?target=%d", d.Base, n))
		},
		"names": func(n int) (*http.Response, error) {
			return hc.Get(fmt.Sprintf("%s/open/%s%d", d.Base, strings.Repeat("crew", 7000), n))
		},
	}
	for many := range 2 {
		far.Store(int32(many))
		for rule, send := range floods {
			var wg sync.WaitGroup
			for worker := range workers(rule) {
				wg.Go(func() {
					for n := range 3 * max(1, longer()/4) { // memory is as high as it gets within moments
						if res, err := send(worker*1000 + n); err == nil {
							_, _ = io.Copy(io.Discard, res.Body)
							_ = res.Body.Close()
						}
					}
				})
			}
			began := time.Now()
			v := newVisitor(t).get(d.host("crew-roster") + "/start").signIn("").onward()
			require.Contains(t, v.page.text, "You are in as", rule)
			passed := time.Since(began).Round(time.Millisecond)
			wg.Wait()
			transport.CloseIdleConnections()
			t.Logf("%s, from %s: peak %d MB, another network's sign-in took %v", rule, []string{"one network", "many"}[many],
				d.peak(t), passed)
		}
	}
	transport.CloseIdleConnections()
	require.Less(t, d.peak(t), 500)
	var disk int64
	require.NoError(t, filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if info, err := e.Info(); err == nil && !e.IsDir() {
			disk += info.Size()
		}
		return err
	}))
	require.Less(t, disk, int64(100<<20))
	v := newVisitor(t).get(d.host("crew-roster") + "/start").signIn("").onward()
	require.Contains(t, v.page.text, "You are in as")
}
