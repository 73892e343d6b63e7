package e2e

import (
	"bytes"
	"cmp"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image/color"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
)

// load is a gate under load, with this process as both counterparts: what they compute is not the gate's.
type load struct {
	*demo
	http    *http.Client
	idp     *keys.Pair
	issuer  *loadIssuer
	secrets map[string]string // of the clients
	people  atomic.Int64
}

// flow is what is driven: one crossing, or one request after it.
type flow struct {
	name string
	once func() error
	// costs are the signatures of one, made and verified, by the kind of key.
	costs map[string]int
}

const loadApp, loadClient, loadRelied = "https://load-app.example/saml", "load-client", "load-relied"

var requestID = regexp.MustCompile(` ID="([^"]+)"`)

// newLoad starts a gate with a provider and applications that this process plays.
func newLoad(t *testing.T, kind string) *load {
	t.Helper()
	d, err := startDemo(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	l := &load{demo: d, secrets: map[string]string{}, http: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	l.idp, err = keys.GenerateKind(kind, "load", time.Now(), rand.Reader)
	require.NoError(t, err)
	file := func(name string, octets []byte) string {
		path := filepath.Join(d.dir, name)
		require.NoError(t, os.WriteFile(path, octets, 0o600))
		return path
	}
	run := d.runs(t)
	run(0, "", "provider", "add", "load", "--metadata", file("idp.xml", saml.WriteIDPMetadata(saml.IDPFace{
		EntityID: "https://load-idp.example/saml", SSO: "https://load-idp.example/sso",
		Keys: []keys.Certificate{l.idp.Certificate}})))
	l.issuer = l.newLoadIssuer(t)
	run(0, "", "provider", "add", "load-issuer", "--issuer", l.issuer.URL, "--client-id", "load", "--client-secret-file",
		file("secret", []byte("not a secret")))
	run(0, "", "app", "add", "load-saml", "--provider", "load", "--metadata", file("sp.xml",
		saml.WriteSPMetadata(saml.SPFace{EntityID: loadApp, ACS: loadApp + "/acs"})))
	for client, provider := range map[string]string{loadClient: "load", loadRelied: "load-issuer"} {
		out := run(0, "", "app", "add", client, "--provider", provider, "--kind", "web", "--client-id", client,
			"--redirect-uri", "https://load-client.example/back", "algorithm=ES256", "--output", "json")
		var made struct{ ClientSecret string }
		require.NoError(t, json.Unmarshal([]byte(out), &made))
		l.secrets[client] = made.ClientSecret
	}
	return l
}

// sends makes a request, and gives the answer whole.
func (l *load) sends(method, address string, form url.Values, header map[string]string) (*http.Response, string,
	error) {
	var body io.Reader
	if form != nil {
		body = strings.NewReader(form.Encode())
	}
	req, err := http.NewRequest(method, address, body)
	if err != nil {
		return nil, "", err
	}
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for name, v := range header {
		req.Header.Set(name, v)
	}
	res, err := l.http.Do(req)
	if err != nil {
		return nil, "", err
	}
	octets, err := io.ReadAll(res.Body)
	return res, string(octets), errors.Join(err, res.Body.Close())
}

// begins sends a request of an application, and answers the gate's question as the provider.
func (l *load) begins(address string) (*http.Response, string, error) {
	res, text, err := l.sends(http.MethodGet, address, nil, nil)
	if err != nil {
		return nil, "", err
	}
	cookies := []string{}
	for _, c := range res.Cookies() {
		cookies = append(cookies, c.Name+"="+c.Value)
	}
	as := map[string]string{"Cookie": strings.Join(cookies, "; ")}
	to, err := url.Parse(res.Header.Get("Location"))
	if err == nil && "http://"+to.Host == l.issuer.URL {
		return l.sends(http.MethodGet, l.issuer.answers(to.Query(), l.people.Add(1)%500), nil, as)
	}
	if err != nil || to.Host != "load-idp.example" {
		return nil, "", fmt.Errorf("the gate asks nobody: %d %.300s", res.StatusCode, text)
	}
	in, err := saml.FromRedirect(to.RawQuery, "SAMLRequest")
	if err != nil {
		return nil, "", err
	}
	id := requestID.FindSubmatch(in.Octets)
	n := l.people.Add(1) % 500
	now := time.Now()
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: fresh(), AssertionID: fresh(), At: now,
		Lifetime: time.Minute, Issuer: "https://load-idp.example/saml", Destination: l.Base +
			"/saml/sp/load/acs", InResponseTo: string(id[1]),
		Audience:     saml.EntityID(l.Base + "/saml/sp/load"),
		NameID:       saml.NameID{Format: saml.FormatPersistent, Value: fmt.Sprint("person-", n)},
		AuthnInstant: now, Context: saml.ContextPassword,
		Attributes: []saml.Attribute{{Name: "mail", Values: saml.Texts(fmt.Sprintf("p%d@load.example", n))},
			{Name: "groups", Values: saml.Texts("drivers", "load")}}}, saml.Protection{Pair: l.idp})
	if err != nil {
		return nil, "", err
	}
	return l.sends(http.MethodPost, l.Base+"/saml/sp/load/acs", url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(octets)},
		"RelayState": {in.RelayState}}, as)
}

// fresh is an ID of a message.
func fresh() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return fmt.Sprintf("_%x", b)
}

// toSAML is a whole crossing from SAML to SAML.
func (l *load) toSAML() error {
	out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: fresh(), IssueInstant: time.Now(), Issuer: loadApp,
		ACS: loadApp + "/acs"}, saml.Endpoint{Binding: saml.BindingRedirect, Location: l.Base + "/saml/idp/sso"}, "", nil)
	if err != nil {
		return err
	}
	res, text, err := l.begins(out.Location)
	if err == nil && !strings.Contains(text, "SAMLResponse") {
		err = fmt.Errorf("nobody entered: %d %.300s", res.StatusCode, text)
	}
	return err
}

// code is a crossing to a client, as far as the code.
func (l *load) code(client string) (code, verifier string, err error) {
	verifier = fresh() + fresh()
	res, text, err := l.begins(l.Base + "/oidc/op/authorize?" + url.Values{"client_id": {client},
		"response_type": {"code"},
		"redirect_uri":  {"https://load-client.example/back"}, "scope": {"openid email groups"}, "state": {fresh()},
		"nonce": {fresh()}, "code_challenge": {oidc.Challenge(verifier)}, "code_challenge_method": {"S256"}}.Encode())
	if err != nil {
		return "", "", err
	}
	to, _ := url.Parse(res.Header.Get("Location"))
	if code = to.Query().Get("code"); code == "" {
		err = fmt.Errorf("there is no code: %d %s %.300s", res.StatusCode, to, text)
	}
	return code, verifier, err
}

// token asks the token endpoint as a client.
func (l *load) token(client string, form url.Values) (out struct {
	AccessToken  string `json:"access_token"`
	RefreshToken string `json:"refresh_token"`
}, err error) {
	form.Set("redirect_uri", "https://load-client.example/back")
	_, text, err := l.sends(http.MethodPost, l.Base+"/oidc/op/token", form, map[string]string{"Authorization": "Basic " +
		base64.StdEncoding.EncodeToString([]byte(client+":"+url.QueryEscape(l.secrets[client])))})
	if err == nil {
		err = json.Unmarshal([]byte(text), &out)
	}
	if err == nil && out.AccessToken == "" {
		err = fmt.Errorf("there is no token: %.300s", text)
	}
	return out, err
}

// toClient is a whole crossing to a client, tokens included.
func (l *load) toClient(client string) error {
	code, verifier, err := l.code(client)
	if err == nil {
		_, err = l.token(client, url.Values{"grant_type": {"authorization_code"}, "code": {code},
			"code_verifier": {verifier}})
	}
	return err
}

// pool are tokens that requests use in turn.
func (l *load) pool(t *testing.T, many int) (refresh, access chan string) {
	refresh, access = make(chan string, many), make(chan string, many)
	for range many {
		code, verifier, err := l.code(loadClient)
		require.NoError(t, err)
		got, err := l.token(loadClient, url.Values{"grant_type": {"authorization_code"}, "code": {code},
			"code_verifier": {verifier}})
		require.NoError(t, err)
		require.NotEmpty(t, got.RefreshToken)
		refresh <- got.RefreshToken
		access <- got.AccessToken
	}
	return refresh, access
}

// flows are what is measured.
func (l *load) flows(t *testing.T, verify string) []flow {
	refresh, access := l.pool(t, 32)
	return []flow{
		{"SAML to SAML", l.toSAML, map[string]int{verify: 1, "sign rsa-2048": 1}},
		{"SAML to OpenID Connect (ES256)", func() error { return l.toClient(loadClient) },
			map[string]int{verify: 1, "sign ec-p256": 2}},
		{"OpenID Connect to OpenID Connect (ES256)", func() error { return l.toClient(loadRelied) },
			map[string]int{verify: 1, "sign ec-p256": 2}},
		{"refresh (ES256)", func() error {
			got, err := l.token(loadClient, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {<-refresh}})
			refresh <- got.RefreshToken
			return err
		}, map[string]int{"sign ec-p256": 2}},
		{"user-info", func() error {
			token := <-access
			defer func() { access <- token }()
			res, text, err := l.sends(http.MethodGet, l.Base+"/oidc/op/userinfo", nil,
				map[string]string{"Authorization": "Bearer " + token})
			if err == nil && res.StatusCode != http.StatusOK {
				err = fmt.Errorf("%d %.200s", res.StatusCode, text)
			}
			return err
		}, map[string]int{"verify ec-p256": 1}},
	}
}

// figures are what came of a flow.
type figures struct {
	name     string
	millis   float64 // of the gate's CPU for one
	share    float64 // of it that is signatures
	rate     float64 // the highest, in a second
	disk     float64 // octets for one
	at       map[int][2]time.Duration
	memoryMB float64
	floor    map[string]float64 // what signatures cost by themselves meanwhile, in milliseconds
}

// floors measures what signatures cost by themselves here, in milliseconds, while all processors make them: so it is
// under load, where two that share a core take longer each.
func floors(t *testing.T) map[string]float64 {
	out := map[string]float64{}
	sum := make([]byte, 32)
	for _, kind := range []string{"rsa-2048", "ec-p256"} {
		pair, err := keys.GenerateKind(kind, "floor", time.Now(), rand.Reader)
		require.NoError(t, err)
		octets, err := pair.Signer().Sign(rand.Reader, sum, crypto.SHA256)
		require.NoError(t, err)
		out["sign "+kind] = millis(400, func() { _, _ = pair.Signer().Sign(rand.Reader, sum, crypto.SHA256) })
		out["verify "+kind] = millis(2000, func() { verifies(pair, sum, octets) })
	}
	return out
}

func verifies(pair *keys.Pair, sum, octets []byte) {
	switch key := pair.Signer().Public().(type) {
	case *rsa.PublicKey:
		_ = rsa.VerifyPKCS1v15(key, crypto.SHA256, sum, octets)
	default:
		verifyEC(key, sum, octets)
	}
}

// millis is how long something takes, the middle of many, on all processors at once.
func millis(many int, do func()) float64 {
	all := make([][]float64, runtime.NumCPU())
	var working sync.WaitGroup
	for p := range all {
		working.Go(func() {
			for range many {
				began := time.Now()
				do()
				all[p] = append(all[p], float64(time.Since(began).Nanoseconds())/1e6)
			}
		})
	}
	working.Wait()
	took := slices.Concat(all...)
	slices.Sort(took)
	return took[len(took)/2]
}

// drive runs a flow by so many at once for a time; at most so many begin in a second, 0 for any number.
func drive(f flow, workers int, rate float64, during time.Duration) (took []time.Duration, failed error) {
	var mu sync.Mutex
	var working sync.WaitGroup
	end := time.Now().Add(during)
	turns := make(chan time.Time)
	go func() {
		defer close(turns)
		for i, began := 0, time.Now(); ; i++ {
			at := time.Now()
			if rate > 0 {
				at = began.Add(time.Duration(float64(i) / rate * 1e9))
				time.Sleep(time.Until(at))
			}
			if at.After(end) {
				return
			}
			turns <- at // when it should have begun: who waits for a place waits, too
		}
	}()
	for range workers {
		working.Go(func() {
			for at := range turns {
				err := f.once()
				mu.Lock()
				took = append(took, time.Since(at))
				failed = cmp.Or(failed, err)
				mu.Unlock()
			}
		})
	}
	working.Wait()
	slices.Sort(took)
	return took, failed
}

// measured is a flow under load: as fast as it goes, then at parts of that.
func (l *load) measured(t *testing.T, f flow, during time.Duration) figures {
	_, err := drive(f, 8, 0, during/4) // warm
	require.NoError(t, err, f.name)
	floor := floors(t)
	before, disk := l.cpu(t), l.octets(t)
	began := time.Now()
	all, err := drive(f, 8, 0, during)
	require.NoError(t, err, f.name)
	out := figures{name: f.name, rate: float64(len(all)) / time.Since(began).Seconds(), at: map[int][2]time.Duration{}}
	out.millis = (l.cpu(t) - before) / float64(len(all))
	out.floor = map[string]float64{}
	for what, after := range floors(t) { // a shared machine is faster in one moment than in the next
		out.floor[what] = (floor[what] + after) / 2
	}
	crypt := 0.0
	for what, n := range f.costs {
		crypt += out.floor[what] * float64(n)
	}
	out.share, out.disk = crypt/out.millis, float64(l.octets(t)-disk)/float64(len(all))
	for _, part := range []int{25, 50, 75} {
		took, err := drive(f, 64, out.rate*float64(part)/100, during/2)
		require.NoError(t, err, f.name)
		out.at[part] = [2]time.Duration{took[len(took)/2], took[len(took)*99/100]}
	}
	out.memoryMB = l.memory(t)
	return out
}

// cpu is how long the gate has computed, in milliseconds.
func (l *load) cpu(t *testing.T) float64 {
	octets, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", l.cmd.Process.Pid))
	require.NoError(t, err)
	words := strings.Fields(string(octets[bytes.LastIndexByte(octets, ')')+1:]))
	var user, system float64
	_, err = fmt.Sscan(words[11]+" "+words[12], &user, &system)
	require.NoError(t, err)
	return (user + system) * 10
}

// octets are those of the gate's databases.
func (l *load) octets(t *testing.T) (n int64) {
	all, err := filepath.Glob(filepath.Join(l.dir, "data", "data", "*.db"))
	require.NoError(t, err)
	for _, name := range all {
		info, err := os.Stat(name)
		require.NoError(t, err)
		n += info.Size()
	}
	return n
}

// memory is what the gate holds, in MB.
func (l *load) memory(t *testing.T) float64 {
	octets, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", l.cmd.Process.Pid))
	require.NoError(t, err)
	var kB float64
	_, err = fmt.Sscan(regexp.MustCompile(`VmRSS:\s+(\d+)`).FindStringSubmatch(string(octets))[1], &kB)
	require.NoError(t, err)
	return kB / 1024
}

// TestLoad measures what crossings cost, with `make load`; it holds each flow to nothing but that it works.
func TestLoad(t *testing.T) {
	to := os.Getenv("INNERGATE_LOAD") // where the table and the plot are written
	if to == "" {
		t.Skip("make load runs it")
	}
	during := 8 * time.Second
	if text := os.Getenv("INNERGATE_LOAD_TIME"); text != "" {
		var err error
		during, err = time.ParseDuration(text)
		require.NoError(t, err)
	}
	var all []figures
	for _, kind := range []string{"rsa-2048", "ec-p256"} {
		l := newLoad(t, kind)
		for _, f := range l.flows(t, "verify "+kind) {
			if kind == "ec-p256" && (f.name == "user-info" || f.name == "refresh (ES256)") {
				continue // it is the same
			}
			got := l.measured(t, f, during)
			got.name += map[bool]string{true: "", false: ", provider with P-256"}[kind == "rsa-2048"]
			all = append(all, got)
			t.Logf("%-50s %.2f ms, share %.2f, %.0f/s", got.name, got.millis, got.share, got.rate)
		}
		l.stop()
	}
	waiting := slowed(t, during)
	require.NoError(t, os.WriteFile(filepath.Join(to, "load.md"), []byte(loadTable(all)+waitingTable(waiting)+lasting(t)+
		"\n![What a crossing costs](load.png)\n"), 0o644))
	require.NoError(t, loadPlot(all, filepath.Join(to, "load.png")))
}

// loadTable is the table for people.
func loadTable(all []figures) string {
	floor := map[string]float64{}
	for _, f := range all {
		for what, millis := range f.floor {
			floor[what] += millis / float64(len(all))
		}
	}
	var out strings.Builder
	fmt.Fprintf(&out, "# What a crossing costs\n\nMade by `make load` on %s, %d processors, %s: whole crossings over HTTP on loopback, with both counterparts in another process. "+
		"The share is that of signatures, made and verified, in the gate's time on the processor; what one costs by itself was measured before and after each row, and is in the mean: "+
		"RSA-2048 %.2f ms to make and %.3f ms to verify, P-256 %.3f ms and %.3f ms. Times of a shared machine mean little; shares and ratios do.\n\n",
		processor(), runtime.NumCPU(), runtime.Version(), floor["sign rsa-2048"], floor["verify rsa-2048"], floor["sign ec-p256"],
		floor["verify ec-p256"])
	out.WriteString("| | ms of the gate | share of signatures | in a second of one processor | highest rate | median and 99 % at a quarter | at a half | at three quarters | octets on disk | MB of memory |\n" +
		"| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n")
	for _, f := range all {
		fmt.Fprintf(&out, "| %s | %.2f | %.2f | %.0f | %.0f/s", f.name, f.millis, f.share, 1000/f.millis, f.rate)
		for _, part := range []int{25, 50, 75} {
			fmt.Fprintf(&out, " | %.1f, %.1f ms", f.at[part][0].Seconds()*1000, f.at[part][1].Seconds()*1000)
		}
		fmt.Fprintf(&out, " | %.0f | %.0f |\n", f.disk, f.memoryMB)
	}
	return out.String()
}

// slowed measures how long crossings take where the disk does.
func slowed(t *testing.T, during time.Duration) (all []figures) {
	for _, delay := range []time.Duration{time.Millisecond, 5 * time.Millisecond} {
		program := slow(t, delay)
		if program == "" {
			return nil
		}
		was := binary
		binary = program
		l := newLoad(t, "ec-p256")
		binary = was
		for _, f := range l.flows(t, "verify ec-p256")[:2] {
			got := l.measured(t, f, during/2)
			got.name = fmt.Sprintf("%s, %v more in each sync", f.name, delay)
			all = append(all, got)
			t.Logf("%-50s %.0f/s", got.name, got.rate)
		}
		l.stop()
	}
	return all
}

// waitingTable is that for people.
func waitingTable(all []figures) string {
	if len(all) == 0 {
		return "\nHow long crossings take on a slower disk was not measured: it takes strace.\n"
	}
	var out strings.Builder
	out.WriteString("\nThe same on a slower disk, the provider with P-256. What comes at once is committed together.\n\n" +
		"| | highest rate | median and 99 % at a quarter | at a half | at three quarters |\n| --- | --- | --- | --- | --- |\n")
	for _, f := range all {
		fmt.Fprintf(&out, "| %s | %.0f/s", f.name, f.rate)
		for _, part := range []int{25, 50, 75} {
			fmt.Fprintf(&out, " | %.1f, %.1f ms", f.at[part][0].Seconds()*1000, f.at[part][1].Seconds()*1000)
		}
		out.WriteString(" |\n")
	}
	return out.String()
}

// lasting has very many crossings pass, and tells what the gate holds then.
func lasting(t *testing.T) string {
	many := 100_000
	if text := os.Getenv("INNERGATE_LOAD_MANY"); text != "" {
		var err error
		many, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	if many == 0 {
		return ""
	}
	l := newLoad(t, "ec-p256")
	defer l.stop()
	var left atomic.Int64
	left.Store(int64(many))
	var working sync.WaitGroup
	var failed atomic.Pointer[error]
	before := l.octets(t)
	for range 8 {
		working.Go(func() {
			for left.Add(-1) >= 0 {
				if err := l.toSAML(); err != nil {
					failed.Store(&err)
					return
				}
			}
		})
	}
	working.Wait()
	require.Nil(t, failed.Load())
	t.Logf("%d crossings: %.0f MB, %.0f octets each", many, l.memory(t), float64(l.octets(t)-before)/float64(many))
	return fmt.Sprintf("\nAfter %d crossings the process holds %.0f MB; its databases grew by %.0f octets for each, of which traces keep the newest only.\n",
		many, l.memory(t), float64(l.octets(t)-before)/float64(many))
}

// processor is what the machine says of its processor.
func processor() string {
	octets, err := os.ReadFile("/proc/cpuinfo")
	if m := regexp.MustCompile(`model name\s*:\s*(.+)`).FindSubmatch(octets); err == nil && m != nil {
		return strings.TrimSpace(string(m[1]))
	}
	return runtime.GOARCH
}

// loadPlot draws milliseconds, those of signatures apart.
func loadPlot(all []figures, path string) error {
	p := plot.New()
	p.Title.Text, p.Y.Label.Text = "What a crossing costs the gate", "milliseconds of one processor"
	var crypt, rest plotter.Values
	var names []string
	for _, f := range all {
		crypt, rest = append(crypt, f.millis*f.share), append(rest, f.millis*(1-f.share))
		names = append(names, strings.NewReplacer(" to ", "\nto ", ", ", ",\n", " (", "\n(").Replace(f.name))
	}
	lower, err := plotter.NewBarChart(crypt, vg.Points(42))
	if err != nil {
		return err
	}
	upper, err := plotter.NewBarChart(rest, vg.Points(42))
	if err != nil {
		return err
	}
	lower.Color, upper.Color = colour(0x8a4b08), colour(0xd9d5cb)
	upper.StackOn(lower)
	p.Add(lower, upper)
	p.Legend.Add("signatures", lower)
	p.Legend.Add("all else", upper)
	p.Legend.Top = true
	p.NominalX(names...)
	p.X.Min, p.X.Max, p.Y.Max = -0.6, float64(len(all))-0.4, p.Y.Max*1.25 // room for the legend
	return p.Save(12*vg.Inch, 7*vg.Inch, path)
}

// colour is one of the product's.
func colour(rgb uint32) color.RGBA {
	return color.RGBA{R: uint8(rgb >> 16), G: uint8(rgb >> 8), B: uint8(rgb), A: 255}
}

// verifyEC verifies a signature of an elliptic curve.
func verifyEC(key crypto.PublicKey, sum, octets []byte) {
	if k, is := key.(*ecdsa.PublicKey); is {
		_ = ecdsa.VerifyASN1(k, sum, octets)
	}
}
