package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/rehearsal"
)

// rehearsing starts a run, and opens it as somebody would in a private window.
func (d *demo) rehearsing(t *testing.T, name string) (int64, *visitor) {
	t.Helper()
	r, err := client.Call(t.Context(), d.client(), api.BeginRun, api.Name(name))
	require.NoError(t, err)
	v := newVisitor(t).get(r.Link)
	require.Contains(t, v.page.text, "Rehearsal of signing in to")
	require.Equal(t, http.StatusForbidden, newVisitor(t).press(r.Link, "https://elsewhere.example", nil).page.status,
		"no other site presses the button")
	v.get(r.Link) // a preview uses nothing up
	return r.ID, v.starts(d, r.Link)
}

// starts presses the button of a link, on the gate's own page.
func (v *visitor) starts(d *demo, link string) *visitor {
	v.t.Helper()
	return v.press(link, d.Base, nil)
}

// verdict is what a run came to.
func (d *demo) verdict(t *testing.T, id int64) api.Run {
	t.Helper()
	r, err := client.Call(t.Context(), d.client(), api.ShowRun, api.Numbered{ID: id})
	require.NoError(t, err)
	return r
}

// A rehearsal from each side over each pair of protocols, of a draft, a paused and a live connection: it fails with
// what is not as expected, and passes once that is mended; whoever is not in it meets the phase.
func TestRehearsalsOfEachPair(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	for provider, who := range at {
		for _, app := range []string{"track-access", "seat-finder"} {
			run(0, "", "app", "set", app, "provider="+provider, "phase=live", "--yes")
			name := app + "-" + provider
			run(0, "", "rehearsal", "add", name, "--app", app, "--provider", provider, "--expect", "entered", "--expect",
				"attribute nothing present")
			for _, phase := range []string{"draft", "paused", "live"} {
				run(0, "", "app", "set", app, "phase="+phase, "--yes")
				run(0, "", "provider", "set", provider, "phase="+phase, "--yes")
				run(0, "", "rehearsal", "put", name, "expect=entered|attribute nothing present", "start=gate")
				for _, start := range []string{"gate", "application"} {
					run(0, "", "rehearsal", "put", name, "start="+start)
					id, v := d.rehearsing(t, name)
					if v.page.url.Path == "/rehearsal/started" {
						require.Contains(t, v.page.text, "Now start at")
						v.get(d.host(app) + "/start")
					}
					v.comes(provider)
					require.Contains(t, v.page.text, who.shows, "%s %s %s: %s", name, phase, start, v.page.text)
					r := d.verdict(t, id)
					require.Equal(t, rehearsal.Failed, r.Verdict.State, "%s %s %s %+v", name, phase, start, r)
					require.Equal(t, "not told", r.Verdict.Lines[1].Came)
				}
				run(0, "", "rehearsal", "put", name, "expect=entered|within 5m")
				id, v := d.rehearsing(t, name)
				if v.page.url.Path == "/rehearsal/started" {
					v.get(d.host(app) + "/start")
				}
				v.comes(provider)
				require.Equal(t, rehearsal.Passed, d.verdict(t, id).Verdict.State)
				if phase != "live" {
					require.NotContains(t, newVisitor(t).get(d.host(app)+"/start").onward().page.body, `name="password"`)
				}
			}
		}
	}
	out, _, code := d.cli(t, "", "rehearsal", "list")
	require.Zero(t, code)
	require.Contains(t, out, "track-access-oakhollow")
}

// The command waits for the verdict; what the application did makes it another one. A start at the provider is let
// through to the application.
func TestRehearseByCommand(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	run(0, "", "app", "set", "crew-roster", "phase=paused", "--yes")
	run(1, `did you mean "driver-enters-roster"?`, "rehearse", "driver-enter-roster")
	run(2, "--app is missing", "rehearsal", "add", "x")
	run(1, `did you mean entered?`, "rehearsal", "add", "x", "--app", "crew-roster", "--expect", "enterd")
	run(1, "nobody both enters and is refused", "rehearsal", "add", "x", "--app", "crew-roster", "--expect", "entered",
		"--expect", "refused")
	run(1, "nobody comes by season-club", "rehearsal", "add", "x", "--app", "crew-roster", "--provider", "season-club")
	run(1, `no role "DRIVR"`, "rehearsal", "add", "x", "--app", "crew-roster", "--expect", "role is DRIVR")
	run(1, `did you mean "crew-roster"?`, "rehearsal", "list", "--app", "crew-rooster")

	link := regexp.MustCompile(`http://\S+/rehearsal/\S+`)
	rehearse := func(name string, args []string, goes func(v *visitor)) (string, int) {
		read, write := io.Pipe()
		done := make(chan int, 1)
		out := &strings.Builder{}
		go func() {
			done <- d.stream(t, out, write, append([]string{"rehearse", name, "--by-link", "--wait", "20s"}, args...)...)
		}()
		lines := bufio.NewScanner(read)
		for lines.Scan() {
			if l := link.FindString(lines.Text()); l != "" {
				go func() { _, _ = io.Copy(io.Discard, read) }()
				goes(newVisitor(t).starts(d, l))
				break
			}
		}
		code := <-done
		return out.String(), code
	}
	out, code := rehearse("driver-enters-roster", []string{"--output", "json"},
		func(v *visitor) { v.comes("wrenmoor-staff") })
	require.Zero(t, code, out)
	require.Contains(t, out, `"verdict": "passed"`)

	run(0, "", "provider", "set", "wrenmoor-staff", "allowUnsolicited=true")
	run(0, "", "rehearsal", "put", "driver-enters-roster", "start=provider")
	_, code = rehearse("driver-enters-roster", []string{"--output", "json"}, func(v *visitor) {
		require.Contains(t, v.page.text, "Now start at wrenmoor-staff")
		v.get(d.host("lost-property") + "/start").as("ada.fenwick")
		v.post(d.host("wrenmoor-staff")+"/unsolicited",
			url.Values{"target": {d.Base + "/open/crew-roster"}}).comes("wrenmoor-staff")
	})
	require.Zero(t, code)

	// Leo, a contractor, is refused by the rule that is expected; Ada is not.
	refused := func(user string) int {
		_, code := rehearse("contractor-stays-out", []string{"--output", "json"}, func(v *visitor) {
			v.get(d.host("crew-roster") + "/start").onward().as(user)
		})
		return code
	}
	require.Equal(t, 3, refused("ada.fenwick"))

	runs, err := client.Call(t.Context(), d.client(), api.ListRuns, api.RunFilter{Named: api.Name("driver-enters-roster"),
		Limit: 5})
	require.NoError(t, err)
	require.Len(t, runs.Items, 2)
	said, _, code := d.cli(t, "", "rehearse", jsonNumber(runs.Items[0].ID), "--said", "error", "--text",
		"No licence assigned")
	require.Equal(t, 3, code)
	require.Contains(t, said, "licences of its own")
	shown := run(0, "", "rehearsal", "show", "driver-enters-roster")
	require.Contains(t, shown, "the application: error")
	list := run(0, "", "trace", "list", "--rehearsed")
	require.Contains(t, list, "crew-roster")
	require.Contains(t, run(0, "", "trace", "list"), "lost-property")
	require.NotContains(t, run(0, "", "trace", "list", "--app", "crew-roster"), "entered")
	kept := run(0, "", "rehearsal", "add", "kept", "--as-trace", runs.Items[0].Traces[1])
	require.Contains(t, kept, "attribute role is DRIVER")
	proposed := run(0, "", "rehearsal", "add", "as-ada", "--app", "crew-roster", "--as-person", "1")
	require.Contains(t, proposed, "person is 1")
	run(0, "", "rehearsal", "remove", "kept")

	// A service has no browser: its token request names the run. The command makes it, or waits for it.
	run(0, "", "app", "set", "timetable-feed", "phase=draft", "--yes")
	run(0, "", "rehearsal", "add", "feed", "--app", "timetable-feed", "--expect", "attribute scope present", "--expect",
		"name is timetable-feed")
	file := func(text string) string {
		path := filepath.Join(t.TempDir(), "secret")
		require.NoError(t, os.WriteFile(path, []byte(text+"\n"), 0o600))
		return path
	}
	run(0, `"verdict": "passed"`, "rehearse", "feed", "--client-secret-file", file("feed-demo-secret-of-wrenmoor"),
		"--output", "json")
	run(3, "stopped", "rehearse", "feed", "--client-secret-file", file("another one, that is long enough"))
	run(0, "", "app", "set", "timetable-archive", "phase=paused", "--yes")
	run(0, "", "rehearsal", "add", "archive", "--app", "timetable-archive")
	_, code = rehearse("archive", []string{"--output", "json"}, func(v *visitor) {
		require.Contains(t, v.comes("wrenmoor-staff").page.text, "since 1891")
	})
	require.Zero(t, code)
	run(2, "people sign in to crew-roster", "rehearse", "driver-enters-roster", "--client-secret-file", file("x"))
	run(0, "", "history", "list", "--kind", "rehearsal")
}

// stream runs a command whose errors are read while it runs.
func (d *demo) stream(t *testing.T, out io.Writer, errs io.WriteCloser, args ...string) int {
	defer errs.Close()
	cmd := exec.Command(binary, args...)
	cmd.Stdout, cmd.Stderr = out, errs
	cmd.Env = append(os.Environ(), "INNERGATE_URL="+d.Base, "INNERGATE_TOKEN="+d.Token, "XDG_CONFIG_HOME="+t.TempDir())
	_ = cmd.Run()
	return cmd.ProcessState.ExitCode()
}

func jsonNumber(n int64) string {
	octets, _ := json.Marshal(n)
	return string(octets)
}

// Whoever watches a run loses nothing where the connection is cut: the next one tells all anew.
func TestWatchingARunOverABrokenConnection(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	r, err := client.Call(t.Context(), d.client(), api.BeginRun, api.Name("driver-enters-roster"))
	require.NoError(t, err)
	proxy := dropping(t, strings.TrimPrefix(d.Base, "http://"), 700)
	// watch reads events until the connection is cut, and gives the last one.
	watch := func() (last api.Run, cut bool) {
		req, err := http.NewRequest(http.MethodGet, "http://"+proxy+"/api/v1/runs/"+jsonNumber(r.ID)+"/watch", nil)
		require.NoError(t, err)
		req.Host = strings.TrimPrefix(d.Base, "http://")
		req.Header.Set("Authorization", "Bearer "+d.Token)
		res, err := (&http.Client{Timeout: 5 * time.Second}).Do(req)
		if err != nil {
			return last, true
		}
		defer res.Body.Close()
		require.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
		lines := bufio.NewScanner(res.Body)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			if data, is := strings.CutPrefix(lines.Text(), "data: "); is && json.Unmarshal([]byte(data), &last) == nil &&
				last.Verdict.State != rehearsal.Waiting {
				return last, false
			}
		}
		return last, true
	}
	done := make(chan bool)
	go func() {
		defer close(done)
		newVisitor(t).starts(d, r.Link).comes("wrenmoor-staff")
	}()
	cuts := 0
	for {
		last, cut := watch()
		if cut {
			cuts++
			require.Less(t, cuts, 50)
			proxy = dropping(t, strings.TrimPrefix(d.Base, "http://"), 700<<min(cuts, 12))
			continue
		}
		require.Equal(t, rehearsal.Passed, last.Verdict.State)
		require.Greater(t, len(last.Steps), 5)
		break
	}
	<-done
	require.NotZero(t, cuts, "the connection was cut")
}

// dropping is a proxy that cuts each connection once it has passed so many octets back.
func dropping(t *testing.T, to string, octets int64) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer out.Close()
				go func() { _, _ = io.Copy(out, in) }()
				_, _ = io.CopyN(in, out, octets)
			}()
		}
	}()
	return l.Addr().String()
}

// A command on somebody's own machine is refused before their browser is marked, let in after, and refused again once
// the run has ended: what it was given then is worth nothing.
func TestCommandsAreRehearsed(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	native := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer native.Close()
	back := native.URL + "/callback"
	run := d.runs(t)
	run(0, "", "app", "set", "depot-terminal", "provider=oakhollow", "phase=paused", "--yes")
	run(0, "", "rehearsal", "add", "terminal", "--app", "depot-terminal", "--start", "application", "--expect", "entered")
	tokens := func(form url.Values) (string, int) {
		form.Set("client_id", "depot-terminal")
		res, err := http.PostForm(d.Base+"/oidc/op/token", form)
		require.NoError(t, err)
		defer res.Body.Close()
		var got struct {
			Access string `json:"access_token"`
		}
		require.NoError(t, json.NewDecoder(res.Body).Decode(&got))
		return got.Access, res.StatusCode
	}
	refused := func(v *visitor) {
		require.Empty(t, v.get(asks(d, "depot-terminal", back)).page.url.Query().Get("code"))
	}
	refused(newVisitor(t))
	id, v := d.rehearsing(t, "terminal")
	require.Equal(t, "/rehearsal/started", v.page.url.Path)
	refused(newVisitor(t))
	code := v.get(asks(d, "depot-terminal", back)).comes("oakhollow").page.url.Query().Get("code")
	require.NotEmpty(t, code, v.page.text)
	access, status := tokens(url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {back},
		"code_verifier": {strings.Repeat("v", 43)}})
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, rehearsal.Passed, d.verdict(t, id).Verdict.State)
	userInfo := func() bool {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, d.Base+"/oidc/op/userinfo", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+access)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.StatusCode == http.StatusOK
	}
	require.True(t, userInfo())
	_, err := client.Call(t.Context(), d.client(), api.EndRun, api.Numbered{ID: id})
	require.NoError(t, err)
	require.False(t, userInfo())
	refused(v)
}

// In the console somebody runs a rehearsal of a paused connection, sees its lanes grow, what differs, and what the
// application did; everything is live. The link is opened in a browser of its own.
func TestConsoleRehearses(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	run(0, "", "app", "set", "crew-roster", "phase=paused", "--yes")
	edda, err := client.Call(t.Context(), d.client(), api.ListPeople,
		api.PeoplePage{PeopleFilter: api.PeopleFilter{Search: "edda.lunn"}, Limit: 1})
	require.NoError(t, err)
	run(0, "", "person", "remove", fmt.Sprint(edda.Items[0].Number), "--yes") // a rehearsal makes her anew
	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "rehearse")
	c.see("A driver enters the roster")
	c.see("never run")
	c.press("A driver enters the roster")
	c.see("name matches .*@wrenmoor[.]example")
	begin := func() *visitor {
		c.press("Run it by a link")
		c.see("It works once")
		link := ""
		c.until(`document.querySelector('.link code') !== null`)
		link = do(c, chromedp.Evaluate[string](`document.querySelector('.link code').innerText`))
		v := newVisitor(t).get(link)
		c.see("The link waits to be opened.")
		return v.starts(d, link)
	}
	script, odd := axe(t), []string{}
	v := begin()
	c.see("At the provider: the person signs in there.")
	c.see("AuthnRequest")
	c.see("● live")
	c.shot("rehearsal-running")
	odd = append(odd, c.accessible(script, "a run under way")...)
	v.onward().as("edda.lunn") // a depot lead, not a driver
	c.see("✕ Failed")
	c.see("attribute role is DRIVER")
	c.shot("rehearsal")
	odd = append(odd, c.accessible(script, "a run that failed")...)
	v = begin()
	v.onward().as("bram.oduya")
	c.see("● Passed")
	c.see("What did the application do?")
	c.shot("rehearsal-passed")
	c.press("Showed an error")
	c.set("textarea", "You have no licence for the roster")
	c.press("Say so")
	c.see("What may lie behind it")
	c.see("licences of its own")
	odd = append(odd, c.accessible(script, "a run with causes")...)
	require.Empty(t, odd, strings.Join(odd, "\n"))
	c.press("End the run")
	c.see("the person")
	c.open(d.Console + "rehearse")
	c.see("Made by rehearsals")
	c.see("Edda Lunn")
	c.shot("rehearsals")

	c.open(d.Console + "watch/live")
	c.see("Whoever signs in now appears here.")
	newVisitor(t).get(d.host("lost-property") + "/start").as("bram.oduya")
	c.see("lost-property")
	c.until(`(() => { const b = document.querySelector('.el-table button'); if (!b) return false; b.click(); return true })()`)
	c.see("match the person")
	c.shot("live")
	traces, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Application: "lost-property",
		Limit: 1})
	require.NoError(t, err)
	c.open(d.Console + "watch/traces/" + traces.Items[0].ID)
	c.press("Keep this as a rehearsal")
	c.see("New rehearsal")
	c.until(`[...document.querySelectorAll('input, textarea')].some(e => e.value.includes('As in sign-in'))`)
}
