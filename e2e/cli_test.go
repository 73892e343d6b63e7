package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

func TestCommandLine(t *testing.T) {
	dir := t.TempDir()
	app := startStandin(t, "app", "--name", "ticket-office", "--gate", shared.Base+"/saml/idp")
	metadata := filepath.Join(dir, "ticket-office.xml")
	require.NoError(t, os.WriteFile(metadata, []byte(newVisitor(t).get(app+"/metadata").page.body), 0o600))
	text, err := os.ReadFile(metadata)
	require.NoError(t, err)
	write := func(name, content string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		return path
	}
	big := write("big.xml", strings.Repeat("x", 3<<20))
	for _, c := range []struct {
		rule, stdin, args string
		code              int
		out, errs         []string
	}{
		{"adds from a file", "", "app add ticket-office --metadata " + metadata + " --title Tickets", 0,
			[]string{"added ticket-office", "innergate app exchange ticket-office"}, nil},
		{"lists", "", "app list", 0, []string{"NAME", "Tickets", "routed", "https://crew-roster.wrenmoor.example/saml"},
			nil},
		{"searches", "", "app list --search TICKET", 0, []string{"ticket-office"}, nil},
		{"says what to do when nothing is there", "", "app list --search zzz", 0, []string{`Nothing matches "zzz"`}, nil},
		{"shows", "", "app show ticket-office", 0, []string{"AssertionConsumerService by HTTP-POST", app + "/acs",
			"SHA-256", "in 18",
			"standing", "untried; nobody has signed in yet"}, nil},
		{"shows as JSON", "", "app show ticket-office -o json", 0, []string{`"name": "ticket-office"`}, nil},
		{"shows as YAML", "", "--output yaml app show ticket-office", 0, []string{"name: ticket-office"}, nil},
		{"gives what the other side needs", "", "app exchange ticket-office", 0, []string{shared.Base + "/saml/idp/sso",
			"also called SSO URL", "SHA-1"}, nil},
		{"gives metadata", "", "app exchange ticket-office --metadata", 0,
			[]string{"IDPSSODescriptor", shared.Base + "/saml/idp"}, nil},
		{"gives the certificate", "", "app exchange ticket-office --certificate", 0, []string{"BEGIN CERTIFICATE"}, nil},
		{"refuses a name that is taken", string(text), "app add ticket-office --metadata -", 1, nil,
			[]string{"name: This short name is taken", "Choose another name"}},
		{"refuses an entity ID that is known", string(text), "app add again --metadata -", 1, nil,
			[]string{"already on record", "Application ticket-office", "metadata-entity-known"}},
		{"refuses the wrong role", "", "provider add again --metadata " + app + "/metadata", 1, nil,
			[]string{"other role", `expected "IDPSSODescriptor"`}},
		{"refuses nothing", "", "provider add again --metadata -", 1, nil, []string{"metadata is empty"}},
		{"refuses a web page", "", "provider add again --metadata " + app + "/", 1, nil, []string{"web page"}},
		{"refuses a file too large", "", "provider add again --metadata " + big, 2, nil, []string{big + " has 3.1 MB",
			"innergate aggregate add"}},
		{"refuses an address that does not answer", "", "provider add again --metadata http://127.0.0.1:1/", 1, nil,
			[]string{"does not answer", "connection refused", "Try the address"}},
		{"refuses an address in a private network", "", "provider add again --metadata http://10.0.0.1/", 1, nil,
			[]string{"may not fetch", "private or special network"}},
		{"refuses a malformed name", string(text), "app add Ticket_Office --metadata -", 1, nil,
			[]string{"not a short name", "ticket-office"}},
		{"refuses a provider that is unknown", string(text), "app add again --metadata - --provider wrenmoor-staf", 1, nil,
			[]string{"provider:", `did you mean "wrenmoor-staff"?`}},
		{"refuses a file that is not there", "", "app add again --metadata nowhere.xml", 2, nil,
			[]string{"nowhere.xml", "nowhere.xml cannot be read"}},
		{"suggests a command", "", "provder list", 2, nil, []string{`no command "innergate provder"`,
			`Did you mean "innergate provider"?`}},
		{"suggests a subcommand", "", "app shw", 2, nil, []string{`Did you mean "innergate app show"?`}},
		{"suggests an option", "", "app add x --metdata y", 2, nil, []string{"--metdata", "Did you mean --metadata?"}},
		{"suggests a name", "", "app show ticket-ofice", 1, nil, []string{`did you mean "ticket-office"?`}},
		{"wants a name", "", "app show", 2, nil, []string{"name is missing"}},
		{"wants one name", "", "app show a b", 2, nil, []string{`"b" is one argument too many`}},
		{"refuses an output", "", "app list --output xml", 2, nil, []string{"Use table, json or yaml"}},
		{"refuses a number that is none", "", "app list --limit few", 2, nil, []string{`--limit: "few" is no whole number`}},
		{"refuses a value where none is", "", "app list --wide=few", 2, nil, []string{"Write --wide alone"}},
		{"knows nobody by that number", "", "app grants crew-roster --person 999", 1, nil, []string{`no person "999"`}},
		{"nor for consents", "", "app consents crew-roster --person 999", 1, nil, []string{`no person "999"`}},
		{"refuses a wrong token", "", "--token igt_wrong app list", 1, nil, []string{"This token is not known"}},
		{"refuses a fault that is unknown", "", "standin provider --gate http://x --listen 127.0.0.1:0 --fault late", 2, nil,
			[]string{`no fault "late"`, "expired"}},
		{"adds a link", "", "app add depot-map --protocol link --link https://maps.wrenmoor.example/depots --title Depots",
			0, []string{"added depot-map, https://maps.wrenmoor.example/depots"}, nil},
		{"shows a link", "", "app show depot-map", 0, []string{"link", "https://maps.wrenmoor.example/depots"}, nil},
		{"gives a link's sheet", "", "app exchange depot-map", 0, []string{shared.Base + "/open/depot-map",
			"link for a portal"}, nil},
		{"has no metadata for a link", "", "app exchange depot-map --metadata", 2, nil, []string{"no metadata"}},
		{"previews another address", "", "app update depot-map --link https://maps.wrenmoor.example/all --preview", 0,
			[]string{"before  https://maps.wrenmoor.example/depots", "after   https://maps.wrenmoor.example/all"}, nil},
		{"refuses an address that is none", "", "app add bad-map --protocol link --link maps", 1, nil,
			[]string{"link:", `"maps" is no address`}},
		{"refuses a link without one", "", "app add bad-map --protocol link --metadata " + metadata, 1, nil,
			[]string{"a link has no metadata"}},
		{"refuses a protocol that is unknown", "", "app add bad-map --protocol lnk --link https://x.example", 1, nil,
			[]string{"protocol:", "saml, oidc, link"}},
		{"removes a link", "", "app remove depot-map --yes", 0, []string{"removed depot-map"}, nil},
		{"says what the gate is", "", "gate show", 0, []string{"IdP entity ID", shared.Base + "/saml/idp"}, nil},
		{"lists the ranks of contexts", "", "context list", 0, []string{"RANK", "PasswordProtectedTransport"}, nil},
		{"refuses a context twice", "urn:a\n# weaker above\nurn:b urn:a", "context set -", 1, nil,
			[]string{"ranks:", "urn:a stands in rank 1 and in rank 2"}},
		{"replaces the ranks", "urn:a\n\nurn:b urn:c\n", "context set -", 0, []string{"1     urn:a", "2     urn:c"}, nil},
		{"changes settings", "", "app set ticket-office phase=paused nameIdFormat=urn:oasis:names:tc:SAML:2.0:nameid-format:persistent owner=Ines", 0, []string{"changed ticket-office"}, nil},
		{"shows what was set", "", "app show ticket-office", 0, []string{"owner", "Ines", "nameid-format:persistent"}, nil},
		{"suggests a setting", "", "app set ticket-office phas=paused", 2, nil,
			[]string{`no setting "phas"`, "Did you mean phase?"}},
		{"refuses a value that is none", "", "app set ticket-office allowSHA1=perhaps", 2, nil,
			[]string{"Use true or false"}},
		{"refuses a phase that is none", "", "app set ticket-office phase=soon", 1, nil, []string{"phase", "live, paused"}},
		{"refuses a setting that cannot work", "", "provider set wrenmoor-staff title=", 1, nil,
			[]string{"title: the title is empty", "give what people should read"}},
		{"asks before it removes", "", "app remove ticket-office", 2, nil, []string{"not done unasked", "Add --yes"}},
		{"removes", "", "app remove ticket-office --yes", 0, []string{"removed ticket-office"}, nil},
		{"makes a token", "", "token add nightly", 0, []string{"igt_"}, []string{"only time"}},
		{"lists tokens without secrets", "", "token list", 0, []string{"nightly", "token demo-"}, nil},
		{"removes a token", "", "token remove nightly --yes", 0, []string{"removed nightly"}, nil},
		{"adds an owner", "another long password", "owner add second --password-file -", 0, []string{"added second"}, nil},
		{"refuses a short password", "short", "owner add third --password-file -", 1, nil,
			[]string{"password:", "at least 12"}},
		{"changes a password", "yet another password", "owner password second --password-file -", 0,
			[]string{"changed the password of second"}, nil},
		{"lists owners", "", "owner list", 0, []string{"second", "signal-box"}, nil},
		{"removes an owner", "", "owner remove second --yes", 0, []string{"removed second"}, nil},
		{"keeps the last owner", "", "owner remove signal-box --yes", 1, nil, []string{"last owner",
			"add another owner first"}},
		{"announces a key", "", "key announce sp", 0, []string{"next", "current"}, nil},
		{"switches to it", "", "key switch sp", 0, []string{"old", "current"}, nil},
		{"refuses a purpose that is none", "", "key announce sparkling", 1, nil,
			[]string{"purpose:", "use one of idp, idp-ecdsa, sp, enc"}},
		{"shows the gate", "", "gate show", 0, []string{shared.Base + "/saml/idp"}, nil},
		{"refuses a trace that is unknown", "", "trace show AAAAA-AAAAA", 1, nil, []string{"no trace"}},
	} {
		t.Run(c.rule, func(t *testing.T) {
			out, errs, code := shared.cli(t, c.stdin, strings.Fields(c.args)...)
			require.Equal(t, c.code, code, "%s%s", out, errs)
			for _, want := range c.out {
				require.Contains(t, out, want)
			}
			for _, want := range c.errs {
				require.Contains(t, errs, want)
			}
			for line := range strings.SplitSeq(out, "\n") {
				if strings.Contains(c.rule, "list") {
					require.LessOrEqual(t, len([]rune(line)), 100)
				}
			}
			if code != 0 {
				require.Equal(t, 2, strings.Count(errs, "\n"), "one line what, one line what to do: %s", errs)
				require.NotContains(t, out, "added")
			}
		})
	}
	out, _, _ := shared.cli(t, "", "app", "list", "--search", "again")
	require.Contains(t, out, "Nothing matches", "nothing was stored by what was refused")
}

func TestTraceOnTheCommandLine(t *testing.T) {
	v := newVisitor(t).get(shared.host("crew-roster") + "/start").signIn("wrong-audience").onward()
	id := reference.FindString(v.page.text)
	out, _, code := shared.cli(t, "", "trace", "show", strings.ToLower(id), "--messages")
	require.Equal(t, 0, code)
	for _, want := range []string{"application → gate", "AuthnRequest by HTTP-Redirect", "provider → gate", "refused",
		"[audience-other]",
		"Audience expected  " + shared.Base + "/saml/sp/wrenmoor-staff", " found     https://somebody-else.example/saml",
		"at the provider: Set the audience", "<saml:Audience>"} {
		require.Contains(t, out, want)
	}
	out, _, _ = shared.cli(t, "", "trace", "list", "--result", "refused", "--search", id)
	require.Contains(t, out, id)
	_, errs, code := shared.cli(t, "", "trace", "list", "--result", "lost")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "Use entered, refused, waiting or left")
}

func TestAPIIsClosedToStrangers(t *testing.T) {
	call := func(method, path, body string, header map[string]string) (int, api.Problem) {
		req, err := http.NewRequest(method, shared.Base+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		for k, v := range header {
			req.Header.Set(k, v)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		var p api.Problem
		_ = json.NewDecoder(res.Body).Decode(&p)
		return res.StatusCode, p
	}
	token := map[string]string{"Authorization": "Bearer " + shared.Token}
	// A console session, as the console gets it.
	req, err := http.NewRequest(http.MethodPost, shared.Base+"/api/v1/me",
		strings.NewReader(`{"username":"`+shared.Owner.Username+`","password":"`+shared.Owner.Password+`"}`))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Innergate-Console", "1")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	set := res.Header.Get("Set-Cookie")
	require.Contains(t, set, "HttpOnly")
	require.Contains(t, set, "SameSite=Strict")
	cookie, _, _ := strings.Cut(set, ";")

	for _, c := range []struct {
		rule, method, path, body string
		header                   map[string]string
		status                   int
	}{
		{"reading needs a token", "GET", "/api/v1/providers", "", nil, 401},
		{"an unknown token is none", "GET", "/api/v1/providers", "", map[string]string{"Authorization": "Bearer igt_x"},
			401},
		{"a token reads", "GET", "/api/v1/providers", "", token, 200},
		{"a console session reads", "GET", "/api/v1/providers", "", map[string]string{"Cookie": cookie}, 200},
		{"a console session changes nothing without the header", "POST", "/api/v1/tokens", `{"name":"x"}`,
			map[string]string{"Cookie": cookie}, 403},
		{"nor from another origin", "POST", "/api/v1/tokens", `{"name":"x"}`, map[string]string{"Cookie": cookie,
			"Innergate-Console": "1", "Origin": "https://evil.example"}, 403},
		{"signing in from another origin is refused", "POST", "/api/v1/me", `{"username":"a","password":"b"}`,
			map[string]string{"Innergate-Console": "1", "Origin": "https://evil.example"}, 403},
		{"a wrong password is refused", "POST", "/api/v1/me", `{"username":"a","password":"b"}`,
			map[string]string{"Innergate-Console": "1"}, 401},
		{"a used or wrong set-up token is refused", "POST", "/api/v1/setup",
			`{"username":"mallory","password":"long enough 123","token":"x"}`, map[string]string{"Innergate-Console": "1"},
			422},
		{"an unknown field is refused by name", "POST", "/api/v1/providers", `{"name":"x","metdata":"y"}`, token, 422},
		{"a field of the wrong kind is refused", "POST", "/api/v1/providers", `{"name":7}`, token, 422},
		{"a call that is none is refused", "GET", "/api/v1/nothing", "", token, 404},
	} {
		t.Run(c.rule, func(t *testing.T) {
			status, p := call(c.method, c.path, c.body, c.header)
			require.Equal(t, c.status, status, "%+v", p)
			if status >= 400 {
				require.NotEmpty(t, p.Title)
				require.NotEmpty(t, p.Detail)
			}
			if status == 422 {
				require.NotEmpty(t, p.Errors)
				require.NotEmpty(t, p.Errors[0].Field)
			}
		})
	}
	for _, c := range []struct {
		rule, method, path, token string
		status                    int
		header, want, title       string
	}{
		{"a method that is none says which are", "DELETE", "/api/v1/providers", shared.Token, 405, "Allow", "GET, POST",
			"DELETE"},
		{"also of one record", "PUT", "/api/v1/providers/x/settings", shared.Token, 405, "Allow", "PATCH", "PUT"},
		{"a missing token is asked for", "GET", "/api/v1/providers", "", 401, "WWW-Authenticate",
			`Bearer realm="Inner Gate"`,
			"No token was sent"},
		{"a wrong one is told from a missing one", "GET", "/api/v1/providers", "igt_x", 401, "WWW-Authenticate",
			`Bearer realm="Inner Gate", error="invalid_token"`, "not known"},
	} {
		req, err := http.NewRequest(c.method, shared.Base+c.path, nil)
		require.NoError(t, err)
		if c.token != "" {
			req.Header.Set("Authorization", "bearer "+c.token) // the scheme in any case
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		var p api.Problem
		require.NoError(t, json.NewDecoder(res.Body).Decode(&p))
		res.Body.Close()
		require.Equal(t, c.status, res.StatusCode, c.rule)
		require.Equal(t, c.want, res.Header.Get(c.header), c.rule)
		require.Contains(t, p.Title, c.title, c.rule)
	}
	served := newVisitor(t).get(shared.Base + "/api/v1/openapi.json").page.body
	require.Contains(t, served, `"openapi":"3.1.0"`)
	written, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	printed, _, _ := shared.cli(t, "", "openapi")
	require.Equal(t, string(written), printed, "docs/openapi.json is current; make docs writes it")
}

// serve runs innergate serve with a configuration until the test ends.
func serve(t *testing.T, config string) (*exec.Cmd, *bytes.Buffer) {
	t.Helper()
	var out bytes.Buffer
	cmd := exec.Command(binary, "serve", "--config", config)
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() })
	return cmd, &out
}

func TestServeAndFirstOwner(t *testing.T) {
	dir, address := t.TempDir(), freePorts(t)
	base := "http://" + address
	config := filepath.Join(dir, "gate.yaml")
	require.NoError(t, os.WriteFile(config,
		[]byte("base: "+base+"\nlisten: "+address+"\ndata: data\nsealKey: seal.key\n"), 0o600))
	cmd, _ := serve(t, config)
	require.Eventually(t, func() bool {
		res, err := http.Get(base + "/readyz")
		return err == nil && res.StatusCode == 200
	}, 10*time.Second, 50*time.Millisecond)

	second, err := exec.Command(binary, "serve", "--config", strings.Replace(config, "gate.yaml", "gate.yaml",
		1)).CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(second), "choose another address")

	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait(), "it stops gracefully")
	again, out := serve(t, config)
	_ = again
	require.Eventually(t, func() bool {
		res, err := http.Get(base + "/healthz")
		return err == nil && res.StatusCode == 200
	}, 10*time.Second, 50*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	_, link, ok := strings.Cut(out.String(), base+"/console/setup#")
	require.True(t, ok, out.String())
	token, _, _ := strings.Cut(link, "\n")
	setup := func(password string) (int, string) {
		req, _ := http.NewRequest(http.MethodPost, base+"/api/v1/setup",
			strings.NewReader(`{"username":"first","password":"`+password+`","token":"`+token+`"}`))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Innergate-Console", "1")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		var b bytes.Buffer
		_, _ = b.ReadFrom(res.Body)
		return res.StatusCode, b.String()
	}
	status, body := setup("short")
	require.Equal(t, 422, status)
	require.Contains(t, body, "at least 12")
	status, _ = setup("a long enough password")
	require.Equal(t, 200, status)
	status, body = setup("a long enough password")
	require.Equal(t, 422, status)
	require.Contains(t, body, "used up")
}

// On the gate's host neither a browser nor the address of the gate is needed: while
// it serves, and while it does not.
func TestOperatorsOnTheHost(t *testing.T) {
	dir, address := t.TempDir(), freePorts(t)
	config := filepath.Join(dir, "gate.yaml")
	require.NoError(t, os.WriteFile(config,
		[]byte("base: http://"+address+"\nlisten: "+address+"\ndata: data\nsealKey: seal.key\n"), 0o600))
	home := t.TempDir()
	run := func(stdin string, env []string, args ...string) (string, int) {
		cmd := exec.Command(binary, args...)
		cmd.Stdin = strings.NewReader(stdin)
		cmd.Env = append(append(os.Environ(), "XDG_CONFIG_HOME="+home), env...)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	out, code := run("", nil, "token", "add", "first", "--config", config)
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "start the gate once")
	serve(t, config)
	require.Eventually(t, func() bool {
		res, err := http.Get("http://" + address + "/readyz")
		return err == nil && res.StatusCode == 200
	}, 10*time.Second, 50*time.Millisecond)
	out, code = run("a long enough password", nil, "owner", "add", "ines", "--password-file", "-", "--config", config)
	require.Zero(t, code, out)
	token, code := run("", nil, "token", "add", "first", "--config", config, "--quiet", "--expires", "1d")
	require.Zero(t, code, token)
	out, code = run("", nil, "token", "add", "first", "--config", config)
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "exists already")

	// Gates are saved under names, once they have answered.
	out, code = run("igt_wrong", nil, "gate", "save", "depot", "--url", address, "--token-file", "-")
	require.Equal(t, 1, code)
	require.Contains(t, out, "This token is not known")
	out, _ = run("", nil, "gate", "list")
	require.Contains(t, out, "No gate is saved")
	out, code = run(token, nil, "gate", "save", "depot", "--url", address, "--token-file", "-")
	require.Zero(t, code, out)
	require.Contains(t, out, "saved as depot")
	out, code = run("", nil, "owner", "list")
	require.Zero(t, code, out)
	require.Contains(t, out, "ines")
	out, code = run("", []string{"INNERGATE_URL=http://127.0.0.1:1"}, "--gate", "depot", "token", "list")
	require.Zero(t, code, out)
	require.Contains(t, out, "first")
	require.Contains(t, out, "host")
	out, code = run("", []string{"INNERGATE_URL=http://127.0.0.1:1"}, "token", "list")
	require.Equal(t, 2, code, "a saved token goes to no other gate: %s", out)
	out, code = run("", nil, "--gate", "depto", "token", "list")
	require.Equal(t, 2, code)
	require.Contains(t, out, `Did you mean "depot"?`)
	out, code = run("", nil, "gate", "forget", "depot")
	require.Zero(t, code, out)
	out, code = run("", nil, "token", "list")
	require.Equal(t, 2, code)
	require.Contains(t, out, "no gate is named")
}

// Help is there at every depth, lists every setting, and knows what it does not
// know; completion gives names, settings and options.
func TestHelpAndCompletion(t *testing.T) {
	for args, want := range map[string][]string{
		"": {"commands", "completion", "app, application", "exit status"}, "--help": {"exit status"},
		"help": {"exit status"}, "help app set": {"settings", "nameIdFormat=TEXT", "phase=draft|pilot|live|paused|retired",
			"--dry-run"},
		"app set crew-roster --help": {"innergate app set NAME … SETTING=VALUE …"}, "app --help": {"remove NAME", "pause"},
		"--output json app show x --help": {"innergate app show NAME"}, "application list --help": {"--sort TEXT"},
		"help aggregate add": {"trustKey=TEXT|@FILE", "--metadata FILE|ADDRESS|-"}, "completion --help": {"source <("},
		"version": {"innergate "},
	} {
		out, errs, code := shared.cli(t, "", strings.Fields(args)...)
		require.Zero(t, code, args+errs)
		require.Empty(t, errs, args)
		for _, w := range want {
			if args == "app --help" {
				w, _, _ = strings.Cut(w, " ")
			}
			require.Contains(t, out, w, args)
		}
	}
	for protocol, has := range map[string][2]string{"saml": {"allowSHA1=", "authMethod="},
		"oidc":   {"authMethod=", "allowSHA1="},
		"oauth2": {"--userinfo", "--issuer"}} {
		out, _, code := shared.cli(t, "", "provider", "add", "--protocol", protocol, "--help")
		require.Zero(t, code)
		require.Contains(t, out, has[0], protocol)
		require.NotContains(t, out, has[1], protocol)
	}
	_, errs, code := shared.cli(t, "", "help", "app", "shw")
	require.Equal(t, 2, code)
	require.Contains(t, errs, `Did you mean "innergate app show"?`)
	out, _, code := shared.cli(t, "", "completion", "bash")
	require.Zero(t, code)
	require.Contains(t, out, "innergate")
	for args, want := range map[string]string{"app show": "crew-roster", "app set crew-roster": "phase=paused",
		"aggregate show": "northern-lines", "check": "wrenmoor-staff", "app": "exchange", "app list --s": "--search",
		"rehearse": "driver-enters-roster"} {
		out, _, _ := shared.cli(t, "", append(strings.Fields(args), "--generate-shell-completion")...)
		require.Contains(t, out, want, args)
	}
}

// Many are changed as one, by the command line as well: told before, taken back
// after.
func TestManyOnTheCommandLine(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := func(code int, args ...string) string {
		t.Helper()
		out, errs, got := d.cli(t, "", args...)
		require.Equal(t, code, got, "%v: %s%s", args, out, errs)
		return out + errs
	}
	require.Contains(t, run(0, "app", "pause", "--all", "--dry-run"), "9 match: 9 would change")
	require.Contains(t, run(2, "app", "pause", "--all"), "not done unasked")
	out := run(0, "app", "pause", "--search", "ro", "--yes", "--remark", "night works")
	require.Contains(t, out, "changed 2 applications")
	undo := regexp.MustCompile(`innergate (history undo \d+)`).FindStringSubmatch(out)
	require.Contains(t, run(0, "connections", "--state", "paused"), "crew-roster")
	change := strings.Replace(undo[1], "undo", "show", 1)
	require.Contains(t, run(0, strings.Fields(change)...), "takes it back")
	require.Contains(t, run(0, append(strings.Fields(undo[1]), "--yes")...), "application/crew-roster is what it was")
	require.Contains(t, run(0, strings.Fields(change)...), "history restore", "it is not the last change any more")
	require.Contains(t, run(0, "connections"), "9 untried")
	require.Contains(t, run(0, "app", "set", "crew-roster", "phase=live"), "nothing differs")
	require.Contains(t, run(1, "app", "remove", "crew-roster", "nobody", "--yes"), `no application "nobody"`)
	require.Contains(t, run(0, "app", "remove", "crew-roster", "lost-property", "--yes", "--quiet"), "")
	require.NotContains(t, run(0, "app", "list"), "crew-roster")

	// Findings are told with what was done, and in the exit status.
	require.Contains(t, run(3, "app", "add", "both", "onlyOwnStarts=true", "--entity-id", "urn:both", "--acs",
		"https://both.example/acs"), "[own-start-missing]")
	require.Contains(t, run(3, "check", "--summary"), "own-start-missing")
	require.Contains(t, run(2, "acknowledge", "both", "own-start-missing", "--until", "30d"), "--remark is missing")
	run(0, "acknowledge", "both", "own-start-missing", "--until", "30d", "--remark", "they move on Friday")
	require.Contains(t, run(0, "check", "both"), "they move on Friday")
	require.Contains(t, run(2, "check", "--code", "own-start-mising"), "Did you mean own-start-missing?")
	run(0, "acknowledge", "both", "own-start-missing", "--withdraw")
	require.Contains(t, run(3, "check", "both", "--side", "gate"), "1 error,")
	require.Contains(t, run(0, "provider", "exchange", "wrenmoor-staff", "--value", "acs-url"),
		"/saml/sp/wrenmoor-staff/acs")
	require.Contains(t, run(2, "provider", "exchange", "wrenmoor-staff", "--value", "entityd"), "Did you mean entity-id?")
	require.Contains(t, run(0, "refresh"), "unchanged aggregate northern-lines")
	require.Contains(t, run(2, "refresh", "payroll"), "Name a provider, an application or an aggregate.")
}

func TestServeRefusesConfigurations(t *testing.T) {
	good := "base: https://gate.wrenmoor.example\ndata: data\nsealKey: seal.key\n"
	for _, c := range []struct{ rule, text, what string }{
		{"an unknown key", good + "lisen: 127.0.0.1:1\n", `unknown key "lisen"` + "\n  Did you mean \"listen\"?"},
		{"an unknown key in a section", good + "log: {levle: info}\n", `unknown key "log.levle"`},
		{"a missing key", "base: https://gate.wrenmoor.example\ndata: x\n", `lacks the key "sealKey"`},
		{"a base with a path", "base: https://gate.wrenmoor.example/x\ndata: x\nsealKey: y\n", "is no base address"},
		{"a sealing key among the data", strings.Replace(good, "seal.key", "data/seal.key", 1),
			"lies in the data directory"},
		{"a skew too large", good + "clockSkew: 1h\n", "at most 5m"},
		{"a network that is none", good + "fetch: {allowNetworks: [ten]}\n", "is no network"},
		{"what is no YAML", "base: [", "is not YAML"},
	} {
		t.Run(c.rule, func(t *testing.T) {
			config := filepath.Join(t.TempDir(), "gate.yaml")
			require.NoError(t, os.WriteFile(config, []byte(c.text), 0o600))
			cmd := exec.Command(binary, "serve", "--config", config)
			out, err := cmd.CombinedOutput()
			require.Error(t, err)
			require.Equal(t, 2, cmd.ProcessState.ExitCode())
			require.Contains(t, string(out), c.what)
		})
	}
}

func TestManyFirstSignInsAtOnceMakeOnePerson(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	var ready, done sync.WaitGroup
	start := make(chan struct{})
	for range 8 {
		v := newVisitor(t).get(d.host("crew-roster") + "/start").signIn("")
		ready.Add(1)
		done.Add(1)
		go func() {
			defer done.Done()
			ready.Done()
			<-start
			v.onward()
		}()
		defer func() { require.Contains(t, v.page.text, "You are in as") }()
	}
	ready.Wait()
	close(start)
	done.Wait()
	list, err := client.Call(context.Background(), d.client(), api.ListTraces, api.TraceFilter{Result: "entered"})
	require.NoError(t, err)
	require.Len(t, list.Items, 8)
}
