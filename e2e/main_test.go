// Package e2e drives the built program from outside: the demo over HTTP, the
// command line as a process, the console in headless Chromium.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/client"
)

// binary is the program under test.
var binary string

// shared is a demo that tests share which do not change its configuration in
// ways that others see.
var shared *demo

func TestMain(m *testing.M) { os.Exit(runAll(m)) }

func runAll(m *testing.M) int {
	for _, name := range []string{"INNERGATE_GATE", "INNERGATE_URL", "INNERGATE_TOKEN", "INNERGATE_CA_FILE"} {
		_ = os.Unsetenv(name) // tests call the gates that they start
	}
	dir, err := os.MkdirTemp("", "innergate-e2e-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	if binary = os.Getenv("INNERGATE_BIN"); binary == "" {
		binary = filepath.Join(dir, "innergate")
		if out, err := exec.Command("go", "build", "-o", binary, "../cmd/innergate").CombinedOutput(); err != nil {
			panic(string(out))
		}
	}
	if shared, err = startDemo(filepath.Join(dir, "shared"), "127.0.0.1:0"); err != nil {
		panic(err)
	}
	defer shared.stop()
	return m.Run()
}

// demo is a running innergate demo.
type demo struct {
	app.Ready
	cmd *exec.Cmd
	out *bytes.Buffer
	dir string
}

func startDemo(dir, listen string) (*demo, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	ready := filepath.Join(dir, "ready.json")
	_ = os.Remove(ready)
	d := &demo{dir: dir, out: &bytes.Buffer{}, cmd: exec.Command(binary, "demo", "--data", filepath.Join(dir, "data"),
		"--listen", listen, "--ready", ready)}
	d.cmd.Stdout, d.cmd.Stderr = d.out, d.out
	if err := d.cmd.Start(); err != nil {
		return nil, err
	}
	for range 300 {
		if octets, err := os.ReadFile(ready); err == nil {
			return d, json.Unmarshal(octets, &d.Ready)
		}
		time.Sleep(50 * time.Millisecond)
	}
	d.stop()
	return nil, fmt.Errorf("the demo did not get ready: %s", d.out)
}

// ownDemo starts a demo that is the test's alone, and ends it with the test. Its stand-ins have the keys of those of
// the shared one: making keys is most of what a start costs.
func ownDemo(t testing.TB) *demo {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "data"), 0o700))
	require.NoError(t, os.CopyFS(filepath.Join(dir, "data", "standins"),
		os.DirFS(filepath.Join(shared.dir, "data", "standins"))))
	d, err := startDemo(dir, "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(d.stop)
	return d
}

// stop ends the demo as Ctrl-C would, and waits.
func (d *demo) stop() {
	_ = d.cmd.Process.Signal(syscall.SIGINT)
	_ = d.cmd.Wait()
}

func (d *demo) client() *client.Client { return client.New(d.Base, d.Token) }

// host gives the base address of a stand-in.
func (d *demo) host(name string) string {
	for _, a := range d.Applications {
		if a.Name == name {
			return strings.TrimSuffix(a.Start, "/")
		}
	}
	for _, p := range d.Providers {
		if p.Name == name {
			return strings.TrimSuffix(p.Home, "/")
		}
	}
	panic("no stand-in " + name)
}

// cli runs the command line against the demo.
func (d *demo) cli(t *testing.T, stdin string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	var out, errOut bytes.Buffer
	cmd := exec.Command(binary, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(stdin), &out, &errOut
	cmd.Env = append(os.Environ(), "INNERGATE_URL="+d.Base, "INNERGATE_TOKEN="+d.Token, "XDG_CONFIG_HOME="+t.TempDir())
	err := cmd.Run()
	if _, ok := err.(*exec.ExitError); err != nil && !ok {
		require.NoError(t, err)
	}
	return out.String(), errOut.String(), cmd.ProcessState.ExitCode()
}

// visitor is a browser without script: it keeps cookies and posts forms.
type visitor struct {
	t    testing.TB
	http *http.Client
	page page
}

// page is what the visitor sees.
type page struct {
	status int
	url    *url.URL
	text   string
	body   string
	header http.Header
	action string
	fields url.Values
}

func newVisitor(t testing.TB) *visitor {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &visitor{t: t, http: &http.Client{Jar: jar, Timeout: 20 * time.Second}}
}

func (v *visitor) get(address string) *visitor {
	v.t.Helper()
	res, err := v.http.Get(address)
	require.NoError(v.t, err)
	return v.see(res)
}

func (v *visitor) post(address string, form url.Values) *visitor {
	v.t.Helper()
	res, err := v.http.PostForm(address, form)
	require.NoError(v.t, err)
	return v.see(res)
}

func (v *visitor) see(res *http.Response) *visitor {
	v.t.Helper()
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(v.t, err)
	v.page = page{status: res.StatusCode, url: res.Request.URL, body: string(body), header: res.Header,
		fields: url.Values{}}
	z := html.NewTokenizer(bytes.NewReader(body))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return v
		case html.TextToken:
			v.page.text += " " + strings.TrimSpace(string(z.Text()))
		case html.StartTagToken, html.SelfClosingTagToken:
			tok := z.Token()
			attr := map[string]string{}
			for _, a := range tok.Attr {
				attr[a.Key] = a.Val
			}
			if tok.Data == "form" && v.page.action == "" {
				u, err := v.page.url.Parse(attr["action"])
				require.NoError(v.t, err)
				v.page.action = u.String()
			}
			if tok.Data == "input" && attr["type"] == "hidden" {
				v.page.fields.Set(attr["name"], attr["value"])
			}
		}
	}
}

// submit posts the form on the page, with more fields in pairs.
func (v *visitor) submit(more ...string) *visitor {
	v.t.Helper()
	for i := 0; i < len(more); i += 2 {
		v.page.fields.Set(more[i], more[i+1])
	}
	return v.post(v.page.action, v.page.fields)
}

// onward submits pages that only pass a message on, until there is another.
func (v *visitor) onward() *visitor {
	v.t.Helper()
	for strings.Contains(v.page.body, `id="onward"`) {
		v.submit()
	}
	return v
}

// signIn signs in at the stand-in provider and stops before the answer is
// posted to the gate.
func (v *visitor) signIn(fault string) *visitor {
	v.t.Helper()
	v.onward()
	require.Contains(v.t, v.page.body, `name="password"`, v.page.text)
	return v.submit("username", "ada.fenwick", "password", "wrenmoor-demo", "fault", fault)
}

var reference = regexp.MustCompile(`\b[0-9A-HJKMNP-TV-Z]{5}-[0-9A-HJKMNP-TV-Z]{5}\b`)

// refused demands that the page refuses, and that its trace names the finding.
func (v *visitor) refused(d *demo, code string) {
	v.t.Helper()
	require.GreaterOrEqual(v.t, v.page.status, 400, v.page.text)
	id := reference.FindString(v.page.text)
	require.NotEmpty(v.t, id, "the page carries a reference number: %s", v.page.text)
	trace, err := client.Call(context.Background(), d.client(), api.ShowTrace, api.Name(id))
	require.NoError(v.t, err)
	require.Equal(v.t, "refused", trace.Result)
	require.Equal(v.t, code, trace.Finding)
	last := trace.Steps[len(trace.Steps)-1]
	require.Equal(v.t, "refused page", last.Name)
	for _, s := range trace.Steps {
		if s.Finding != nil {
			require.Equal(v.t, code, string(s.Finding.Code))
			require.NotEmpty(v.t, s.Finding.Remedy)
			return
		}
	}
	require.Fail(v.t, "no step carries the finding")
}

// freePorts gives an address whose port and those after it, which the demo takes for its
// stand-ins, are free now.
func freePorts(t testing.TB) string {
	t.Helper()
	for port := 20000 + os.Getpid()%20000; port < 65000; port += 7 {
		free := true
		for i := range 16 {
			ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port+i))
			if err != nil {
				free = false
				break
			}
			ln.Close()
		}
		if free {
			return fmt.Sprintf("127.0.0.1:%d", port)
		}
	}
	t.Fatal("no free ports")
	return ""
}
