package e2e

import (
	"archive/zip"
	"bufio"
	"cmp"
	"encoding/json"
	"encoding/xml"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/standin"
)

// driven has the gate go through a rehearsal by itself.
func (d *demo) driven(t *testing.T, name string) api.Run {
	t.Helper()
	r, err := client.Call(t.Context(), d.client(), api.DriveRun, api.Name(name))
	require.NoError(t, err)
	for until := time.Now().Add(60 * time.Second); r.Ended.IsZero(); time.Sleep(30 * time.Millisecond) {
		require.True(t, time.Now().Before(until), "the run does not end: %+v", r)
		r, err = client.Call(t.Context(), d.client(), api.ShowRun, api.Numbered{ID: r.ID})
		require.NoError(t, err)
	}
	return r
}

// secretIn writes a file with a secret.
func secretIn(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(path, []byte(text+"\n"), 0o600))
	return path
}

// faulty switches a fault of a stand-in on, or, by "", off.
func (d *demo) faulty(t *testing.T, name, fault string) {
	t.Helper()
	res, err := http.PostForm(d.host(name)+"/fault", url.Values{"fault": {fault}})
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.NoError(t, res.Body.Close())
}

// repairs are remedies at the gate, by the fault.
var repairs = map[string]string{"wrenmoor-staff sha1": "provider set wrenmoor-staff allowSHA1=true",
	"possession-planner no-pkce": "app set possession-planner withoutPKCE=true"}

// Each fault of each stand-in that shows in a sign-in makes a rehearsal fail that nobody attends, with the finding that
// it stands for first; without the fault it passes. What is odd and legal passes at once.
func TestEachFaultIsFoundByItself(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	run(0, "", "app", "set", "track-access", "provider=oakhollow", "--yes")
	run(0, "", "app", "set", "seat-finder", "provider=season-club", "--yes")
	found := 0
	for _, c := range []struct {
		of, app, start, user, password string
		faults                         []standin.Fault
	}{
		{"wrenmoor-staff", "crew-roster", "gate", "ada.fenwick", "wrenmoor-demo", standin.ProviderFaults()},
		{"oakhollow", "track-access", "gate", "mina.thorne", "oakhollow-demo", standin.SignInFaults(false)},
		{"season-club", "seat-finder", "gate", "rosa.finch", "club-demo", standin.SignInFaults(true)},
		{"crew-roster", "crew-roster", "application", "ada.fenwick", "wrenmoor-demo", standin.ApplicationFaults()},
		{"possession-planner", "possession-planner", "application", "dov.petrak", "wrenmoor-demo", standin.ClientFaults()},
	} {
		name := "faults-of-" + c.of
		run(0, "", "rehearsal", "add", name, "--app", c.app, "--start", c.start, "--username", c.user, "--password-file",
			secretIn(t, c.password), "--opens", d.host(c.app)+"/start")
		require.Equal(t, rehearsal.Passed, d.driven(t, name).Verdict.State, name)
		slices.SortStableFunc(c.faults, func(a, b standin.Fault) int { // keys are asked for anew once in a while only
			return cmp.Compare(min(1, len(a.Finding)), min(1, len(b.Finding)))
		})
		for _, f := range c.faults {
			if f.Name == "replay" { // of a good answer
				d.faulty(t, c.of, "")
				d.driven(t, name)
			}
			d.faulty(t, c.of, f.Name)
			r := d.driven(t, name)
			if f.Name == "rotated" && r.Verdict.State != rehearsal.Passed { // the keys were asked for within this minute
				require.Equal(t, "token-key", string(r.Verdict.Findings[0].Code))
				continue // TestKeysOfProvidersAreKeptFresh has a clock of its own
			}
			if f.Finding == "" {
				require.Equal(t, rehearsal.Passed, r.Verdict.State, "%s %s is odd, and legal: %+v", c.of, f.Name, r.Verdict)
				continue
			}
			if repair, at := repairs[c.of+" "+f.Name], r.Verdict.State; repair != "" {
				require.NotEqual(t, rehearsal.Passed, at)
				run(0, "", append(strings.Fields(repair), "--yes")...)
				require.Equal(t, rehearsal.Passed, d.driven(t, name).Verdict.State,
					"what the finding says is done at the gate: %s", repair)
				run(0, "", append(strings.Fields(strings.Replace(repair, "=true", "=false", 1)), "--yes")...)
			}
			found++
			if r.Verdict.State == rehearsal.Passed || len(r.Verdict.Findings) == 0 ||
				string(r.Verdict.Findings[0].Code) != f.Finding {
				t.Errorf("%s %s should be %s: %s %v %s", c.of, f.Name, f.Finding, r.Verdict.State, r.Verdict.Findings, r.Halted)
			}
		}
		d.faulty(t, c.of, "")
		require.Equal(t, rehearsal.Passed, d.driven(t, name).Verdict.State, name)
	}
	require.Greater(t, found, 110)
}

// The tour runs by itself, and in the console: each mistake is made, found, mended by one press.
func TestTheTour(t *testing.T) {
	t.Parallel()
	out, err := exec.CommandContext(t.Context(), binary, "demo", "--tour", "--listen", "127.0.0.1:0").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "All 12 mistakes were found, and mended.")
	require.Contains(t, string(out), "[application-refuses]", "of one that has no account")

	d := ownDemo(t)
	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "rehearse-tour")
	c.see("The secret's identifier in place of its value")
	script := axe(t)
	c.press("Make the mistake")
	c.see("The provider does not accept the gate's client ID and secret")
	c.see("✕ Failed")
	c.shot("tour")
	require.Empty(t, c.accessible(script, "the tour"))
	c.press("Give the gate the value of the secret")
	c.see("● Passed")
	c.see("1 of 12 mended")
	c.press("Next: A trailing slash too many")
	c.see("The redirect URI is not on record")
	_, err = client.Call(t.Context(), d.client(), api.MendStop, api.Name("slasch"))
	require.ErrorContains(t, err, "did you mean")
}

// A bundle holds what its preview showed, no secret that was planted anywhere, nothing of a person unless it is asked
// for; its page opens in a browser without a network, loads nothing, and runs no script of a counterpart.
func TestTakingAlong(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	evil := `<script>document.title='run'</script><img src=http://127.0.0.1:1/x onerror="document.title='run'">`
	run(0, "", "app", "set", "possession-planner", "title="+evil)
	run(0, "", "rehearsal", "put", "planner-of-a-controller", "expect=entered|name matches .*|attribute email is dov.petrak@wrenmoor.example")
	r := d.driven(t, "planner-of-a-controller")
	run(1, "did you mean", "bundle", "planner-of-a-controler", "--kind", "rehearsal")
	run(2, "there is no rehearsal, application or sign-in", "bundle", "planner-of-a-controler")
	run(1, "of another rehearsal", "bundle", "driver-enters-roster", "--run", jsonNumber(r.ID))
	dir := t.TempDir()
	for _, of := range [][]string{{"planner-of-a-controller"}, {r.Traces[0]}, {"possession-planner"}} {
		for _, whole := range []bool{false, true} {
			path := filepath.Join(dir, of[0]+".zip")
			args := append(of, "--file", path)
			if whole {
				args = append(args, "--whole")
			}
			run(0, "", append([]string{"bundle"}, args...)...)
			files := unzipped(t, path)
			all := ""
			for name, text := range files {
				all += name + "\n" + text
			}
			for _, secret := range []string{"planner-demo-secret-of-wrenmoor", "oakhollow-demo-secret-of-the-gate",
				"wrenmoor-demo", d.Token, "PRIVATE KEY", d.Owner.Password} {
				require.NotContains(t, all, secret, of)
			}
			require.NotRegexp(t, `ey[\w-]+\.ey[\w-]+\.[\w-]{20,}`, all, "no token that could be used")
			if of[0] != "possession-planner" { // nobody came for real
				require.Equal(t, whole, strings.Contains(all, "dov.petrak"), "%v %v", of, whole)
				require.Equal(t, whole, strings.Contains(all, "Petrák"), "%v %v", of, whole)
			}
			d.opensOffline(t, dir, files["bundle.html"])
		}
	}
	seen, err := client.Call(t.Context(), d.client(), api.PreviewBundle,
		api.BundleAsk{Kind: "rehearsal", Name: "planner-of-a-controller"})
	require.NoError(t, err)
	octets, err := client.Call(t.Context(), d.client(), api.FetchBundle, api.BundleAsk{Kind: "rehearsal",
		Name: "planner-of-a-controller", Digest: seen.Digest})
	require.NoError(t, err)
	shown, err := json.MarshalIndent(seen.Bundle, "", "  ")
	require.NoError(t, err)
	path := filepath.Join(dir, "again.zip")
	require.NoError(t, os.WriteFile(path, octets, 0o600))
	require.JSONEq(t, string(shown), unzipped(t, path)["bundle.json"], "what is written is what was shown")
	run(0, "", "app", "set", "possession-planner", "notes=else")
	_, err = client.Call(t.Context(), d.client(), api.FetchBundle, api.BundleAsk{Kind: "rehearsal",
		Name: "planner-of-a-controller", Digest: seen.Digest})
	require.ErrorContains(t, err, "not what was looked at")

	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "rehearse/planner-of-a-controller")
	c.see("Test account")
	c.press("Take it along")
	c.see("They are masked, equal ones alike.")
	c.see("Time line")
	c.shot("take-along")
	require.Empty(t, c.accessible(axe(t), "taking along"))
}

// unzipped are the files in an archive, by name.
func unzipped(t *testing.T, path string) map[string]string {
	t.Helper()
	z, err := zip.OpenReader(path)
	require.NoError(t, err)
	defer z.Close()
	out := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		octets, err := io.ReadAll(r)
		require.NoError(t, err)
		out[f.Name] = string(octets)
	}
	return out
}

// opensOffline opens the page of a bundle in a browser that has no network.
func (d *demo) opensOffline(t *testing.T, dir, page string) {
	t.Helper()
	path := filepath.Join(dir, "bundle.html")
	require.NoError(t, os.WriteFile(path, []byte(page), 0o600))
	c := startChromium(t, "host-resolver-rules", "MAP * ~NOTFOUND", "proxy-server", "127.0.0.1:1")
	var asked []string
	require.NoError(t, chromedp.Listen(c.ctx, func(ev any) {
		if e, is := ev.(*network.EventRequestWillBeSent); is {
			asked = append(asked, e.Request.URL)
		}
	}))
	_, err := chromedp.Call(c.ctx, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	c.open("file://" + path)
	c.see("Taken along from Inner Gate")
	time.Sleep(200 * time.Millisecond)
	require.NotEqual(t, "run", do(c, chromedp.Title()))
	require.Len(t, asked, 1, "it loads nothing but itself: %v", asked)
	c.shot("bundle")
}

// Applications without a server of their own, and services, have faults too; the gate finds each. A provider of several
// tenants lets in those of the tenants that are allowed.
func TestFaultsOfOtherClients(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	found := func(app, want string) func() bool {
		return func() bool {
			list, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Search: want, Limit: 20})
			require.NoError(t, err)
			return slices.ContainsFunc(list.Items, func(h api.TraceHead) bool {
				return h.Finding == want && (h.Application == app || h.Application == "")
			})
		}
	}
	c := startChromium(t)
	for _, f := range standin.BrowserFaults() {
		d.faulty(t, "refund-desk", f.Name)
		c.open(d.host("refund-desk"))
		c.press("Sign in")
		if f.Finding == "pkce-other" || f.Finding == "grant-twice" {
			if f.Finding == "pkce-other" {
				c.atStandin("")
			}
			c.see("That did not work")
		}
		require.Eventually(t, found("refund-desk", f.Finding), 8*time.Second, 50*time.Millisecond, "browser %s", f.Name)
	}
	for _, f := range standin.TerminalFaults() {
		cmd := exec.CommandContext(t.Context(), binary, "standin", "terminal", "--gate", d.Base, "--client-id",
			"depot-terminal", "--fault", f.Name)
		read, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := bufio.NewScanner(read)
		for lines.Scan() && !strings.HasPrefix(lines.Text(), "http") {
			continue
		}
		v := newVisitor(t).get(lines.Text())
		if strings.Contains(v.page.body, `name="password"`) {
			v.through("yes")
			require.Error(t, cmd.Wait(), "terminal %s", f.Name)
		} else {
			require.NoError(t, cmd.Process.Kill()) // nobody comes back to it
			_ = cmd.Wait()
		}
		require.Eventually(t, found("depot-terminal", f.Finding), 8*time.Second, 50*time.Millisecond, "terminal %s", f.Name)
	}
	secret := secretIn(t, "feed-demo-secret-of-wrenmoor")
	for _, f := range standin.ServiceFaults() {
		_, _, code := d.cli(t, "", "standin", "service", "--gate", d.Base, "--client-id", "timetable-feed",
			"--client-secret-file", secret, "--fault", f.Name, "--api", d.host("possession-planner")+"/api/possessions")
		require.NotZero(t, code, f.Name)
		require.Eventually(t, found("timetable-feed", f.Finding), 8*time.Second, 50*time.Millisecond, "service %s", f.Name)
	}
	run(1, "there is no fault", "standin", "service", "--gate", d.Base, "--client-id", "timetable-feed",
		"--client-secret-file", secret, "--fault", "wrong-secre")

	many := startStandin(t, "issuer", "--name", "many", "--gate", d.Base, "--client-id", "gate-of-many",
		"--client-secret-file", secret, "--tenant", "rail-7", "--tenant", "tram-2")
	run(0, "", "provider", "add", "many", "--issuer", many+"/common/v2", "--client-id", "gate-of-many",
		"--client-secret-file", secret, "tenants=*")
	run(0, "", "app", "set", "track-access", "provider=many", "--yes")
	run(0, "", "rehearsal", "add", "many", "--app", "track-access", "--provider", "many", "--username", "ada.fenwick",
		"--password-file", secretIn(t, "wrenmoor-demo"))
	for tenants, want := range map[string]string{"tram-2": "tenant-refused", "rail-7": ""} {
		run(0, "", "provider", "set", "many", "tenants="+tenants)
		r := d.driven(t, "many")
		if want == "" {
			require.Equal(t, rehearsal.Passed, r.Verdict.State, "%+v", r.Verdict)
		} else {
			require.Equal(t, want, string(r.Verdict.Findings[0].Code))
		}
	}
}

// A test account that is refused is tried once, and then no more until somebody says so; sets give an exit status and a
// file for build servers; one that turns is told once, by mail and by a signed token.
func TestRehearsalsAlone(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	wrong, right := secretIn(t, "not it"), secretIn(t, "wrenmoor-demo")
	run(2, "--password-file is given", "rehearsal", "add", "x", "--app", "crew-roster", "--password-file", right)
	run(2, "--password-file", "rehearsal", "add", "x", "--app", "crew-roster", "--username", "u", "--password-file",
		"/none")
	run(1, "no rehearsal \"x\"", "rehearsal", "show", "x")
	run(1, "nothing says at which provider", "rehearsal", "add", "x", "--app", "track-access", "--username", "u")
	run(1, "every", "rehearsal", "put", "driver-enters-roster", "every=30s")
	run(2, "a name is given", "rehearse", "x", "--all")
	run(2, "there is no output", "rehearse", "--all", "--output", "xml")

	run(0, "driver-enters-roster", "rehearse", "--all")
	run(0, "", "recipient", "put", "board", "title=Board", "address="+d.Recipient+"events", "about=rehearsals")
	run(0, "", "rehearsal", "password", "driver-enters-roster", "--password-file", wrong)
	shown := run(3, "test-account-refused", "rehearse", "driver-enters-roster")
	require.NotContains(t, shown, "not it")
	run(1, "test-account-refused", "rehearse", "driver-enters-roster")
	runs, err := client.Call(t.Context(), d.client(), api.ListRuns,
		api.RunFilter{Named: api.Name("driver-enters-roster"), Limit: 9})
	require.NoError(t, err)
	require.Len(t, runs.Items, 2, "one try")
	out := run(3, "", "rehearse", "--all", "--output", "junit")
	var suites struct {
		Suite struct {
			Tests, Failures, Errors, Skipped int `xml:",attr"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(strings.NewReplacer("tests=", "Tests=", "failures=", "Failures=", "errors=",
		"Errors=", "skipped=", "Skipped=").Replace(out)), &suites))
	require.Equal(t, [4]int{3, 0, 1, 1}, [4]int{suites.Suite.Tests, suites.Suite.Failures, suites.Suite.Errors,
		suites.Suite.Skipped})
	run(0, "", "rehearsal", "resume", "driver-enters-roster")
	run(3, "test-account-refused", "rehearse", "driver-enters-roster") // still the wrong one
	run(0, "", "rehearsal", "password", "driver-enters-roster", "--password-file", right)
	run(0, "passed", "rehearse", "driver-enters-roster")
	run(0, "passed", "rehearse", "driver-enters-roster")
	mailed := func(what string) int { return d.letters(t, "signal-box@wrenmoor.example", what) }
	require.Eventually(t, func() bool { return mailed("Passes again") == 1 }, 10*time.Second, 100*time.Millisecond)
	require.Equal(t, 1, mailed("Rehearsal fails"), "once, though it failed twice")
	require.Eventually(t, func() bool {
		res, err := http.Get(d.Recipient + "heard")
		require.NoError(t, err)
		defer res.Body.Close()
		octets, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		text := string(octets)
		return strings.Count(text, "driver-enters-roster") == 2 && strings.Contains(text, "test-account-refused") &&
			!strings.Contains(text, "ada.fenwick")
	}, 10*time.Second, 100*time.Millisecond, "both turns, and no value of a person")
	list := run(0, "", "rehearsal", "list", "--output", "json")
	require.NotContains(t, list, "wrenmoor-demo")
	require.Contains(t, list, `"username": "ada.fenwick"`)
	for _, path := range []string{"objects/rehearsal/driver-enters-roster", "history?kind=rehearsal"} {
		require.NotContains(t, d.raw(t, "/api/v1/"+path), "wrenmoor-demo")
	}
	metrics := d.raw(t, "/metrics")
	require.Contains(t, metrics, `innergate_rehearsal_passed{rehearsal="driver-enters-roster"} 1`)
	require.Contains(t, metrics, `innergate_rehearsal_seconds{rehearsal="driver-enters-roster"}`)

	// Of a provider that keeps the browser once it has the password, a run that nobody started is the last one.
	d.faulty(t, "oakhollow", "stays")
	run(0, "", "rehearsal", "add", "kept", "--app", "track-access", "--provider", "oakhollow", "--username", "mina.thorne",
		"--password-file", secretIn(t, "oakhollow-demo"), "--after-changes")
	require.Eventually(t, func() bool {
		_, err := client.Call(t.Context(), d.client(), api.DriveRun, api.Name("kept"))
		return err != nil && strings.Contains(err.Error(), "does not take the user name or the password")
	}, 25*time.Second, 3*time.Second)
	d.faulty(t, "oakhollow", "")

	// The sign-in page changes: what cannot be driven is said, and a run by link remains.
	run(0, "", "app", "set", "crew-roster", "ownStart=https://elsewhere.example/", "onlyOwnStarts=false")
	run(0, "", "rehearsal", "put", "driver-enters-roster", "start=application", "opens="+d.Base+"/console/")
	run(3, "endpoint-unreachable", "rehearse", "driver-enters-roster")
	run(0, "", "rehearsal", "password", "driver-enters-roster", "--forget")
	run(1, "it works once", "rehearse", "driver-enters-roster", "--wait", "1s")
}

// raw is what an address of the gate answers to an owner's token.
func (d *demo) raw(t *testing.T, path string) string {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, d.Base+path, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+d.Token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	octets, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return string(octets)
}
