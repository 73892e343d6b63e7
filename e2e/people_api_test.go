package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// call sends a request to the API as any program would.
func (d *demo) call(t *testing.T, method, path, kind string, body io.Reader) (int, []byte) {
	t.Helper()
	q, err := http.NewRequest(method, d.Base+"/api/v1"+path, body)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+d.Token)
	if kind != "" {
		q.Header.Set("Content-Type", kind)
	}
	res, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer res.Body.Close()
	octets, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, octets
}

func (d *demo) sends(t *testing.T, method, path, body string) (int, string) {
	t.Helper()
	status, octets := d.call(t, method, path, "application/json", strings.NewReader(body))
	return status, string(octets)
}

// uploads sends settings and a document, and waits for the job.
func (d *demo) uploads(t *testing.T, path, settings string, document []byte) api.Job {
	t.Helper()
	var b bytes.Buffer
	form := multipart.NewWriter(&b)
	require.NoError(t, form.WriteField("settings", settings))
	part, err := form.CreateFormFile("document", "list.csv")
	require.NoError(t, err)
	_, err = part.Write(document)
	require.NoError(t, err)
	require.NoError(t, form.Close())
	status, octets := d.call(t, http.MethodPost, path, form.FormDataContentType(), &b)
	require.Equal(t, http.StatusAccepted, status, "%s", octets)
	var j api.Job
	require.NoError(t, json.Unmarshal(octets, &j))
	for j.State == "running" {
		time.Sleep(20 * time.Millisecond)
		_, octets = d.call(t, http.MethodGet, "/jobs/"+j.ID, "", nil)
		require.NoError(t, json.Unmarshal(octets, &j))
	}
	return j
}

// The API of people says which field is wrong, why and what to do; nothing is half stored.
func TestPeopleOverTheAPI(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/people?search=leo", "", 200, `"name":"Leo Quarrie"`},
		{"GET", "/people?search=" + strings.Repeat("x%20", 7), "", 422, "at most six words"},
		{"GET", "/people?state=gone", "", 422, `"field":"state"`},
		{"GET", "/people?group=contractor", "", 422, `did you mean \"contractors\"?`},
		{"GET", "/people?organisation=oakholow", "", 422, `did you mean \"oakhollow\"?`},
		{"GET", "/people?provider=oakholow", "", 422, `did you mean \"oakhollow\"?`},
		{"GET", "/people?grop=x", "", 422, "grop"},
		{"GET", "/people/99", "", 404, `there is no person \"99\"`},
		{"GET", "/people/0", "", 422, "number"},
		{"GET", "/people/12/told?application=crew-rooster", "", 422, `did you mean \"crew-roster\"?`},
		{"GET", "/people/export?form=xml", "", 422, "form"},
		{"POST", "/people", `{}`, 422, "give a provider and its name for the person, or values"},
		{"POST", "/people", `{"provider":"oakhollow"}`, 422, `"field":"subject"`},
		{"POST", "/people", `{"provider":"oakhollow","subject":"CD36iSnu_DW33DpM"}`, 409, "by that name already"},
		{"PATCH", "/people/12", `{"values":{"":["x"]}}`, 422, "is no name of an attribute"},
		{"PATCH", "/people/12", `{"values":{"groups":["drivers"]}}`, 422, "join groups"},
		{"PATCH", "/people/12", `{"values":{"title":["a\u0000b"]}}`, 422, `"field":"values.title"`},
		{"PATCH", "/people/12", `{"join":[{"kind":"group","name":"nobody"}]}`, 422, `"field":"join[0]"`},
		{"PATCH", "/people/12", `{"join":[{"kind":"crowd","name":"x"}]}`, 422, "group, organisation"},
		{"PATCH", "/people/12", `{"valeus":{}}`, 422, "valeus"},
		{"POST", "/people/12/join", `{"other":12,"preview":true}`, 422, "same person"},
		{"POST", "/people/12/join", `{"other":13}`, 422, "digest"},
		{"POST", "/people/12/part", `{"link":"00"}`, 422, `"field":"link"`},
		{"POST", "/people/12/links", `{"provider":"season-club","subject":" "}`, 422, `"field":"subject"`},
		{"POST", "/people/12/links",
			`{"provider":"wrenmoor-staff","subject":"x","format":"urn:oasis:names:tc:SAML:2.0:nameid-format:transient"}`, 422,
			"another one at each sign-in"},
		{"PUT", "/groups/Bad_Name", `{"title":"x","revision":0}`, 422, `"field":"name"`},
		{"PUT", "/groups/drivers", `{"title":"x","revision":0}`, 409, "taken"},
		{"PUT", "/groups/drivers", `{"title":"x","revision":9}`, 409, "changed meanwhile"},
		{"PUT", "/groups/operations", `{"title":"x","inside":"drivers","revision":1}`, 422, "inside itself"},
		{"PUT", "/groups/new", `{"title":"x","values":["signalling"],"revision":0}`, 422, `"field":"values[0]"`},
		{"PUT", "/organisations/new", `{"title":"x","providers":["oakhollow"],"revision":0}`, 422, "oakhollow's already"},
		{"PUT", "/organisations/new", `{"title":"x","domains":["*.example"],"revision":0}`, 422, "is no domain"},
		{"DELETE", "/groups/contractors", "", 422, "unit-used"},
		{"DELETE", "/organisations/oakhollw", "", 404, `did you mean \"oakhollow\"?`},
		{"GET", "/applications/crew-rooster/comparisons", "", 404, `did you mean \"crew-roster\"?`},
		{"GET", "/applications/crew-roster/comparisons/7", "", 404, "comparison of crew-roster"},
		{"POST", "/applications/crew-roster/comparisons", `{}`, 422, "the body is no form"},
		{"PATCH", "/providers/oakhollow/settings", `{"revision":1,"settings":{"matchBy":"emails emails"}}`, 422,
			"named twice"},
		{"PATCH", "/providers/oakhollow/settings", `{"revision":1,"settings":{"matchBy":"a","matchBy":"b"}}`, 400,
			"comes twice"},
		{"PATCH", "/providers/oakhollow/settings", `{"revision":1,"settings":{"askFor":"nickName=verified"}}`, 422,
			`"field":"askFor"`},
		{"PATCH", "/providers/oakhollow/settings", `{"revision":1,"settings":{"vouchesFor":"Oakhollow.example"}}`, 422,
			"in small letters"},
		{"PATCH", "/providers/oakhollow/settings", `{"revision":1,"settings":{"groupValues":"all"}}`, 422, "known"},
	} {
		status, body := d.sends(t, c.method, c.path, c.body)
		require.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, body)
		require.Contains(t, body, c.want, "%s %s", c.method, c.path)
	}
	for name, c := range map[string]struct {
		document []byte
		say      string
	}{
		"an archive":  {[]byte("PK\x03\x04\x00\x00"), "this is no text"},
		"nothing":     {nil, "it is empty"},
		"too wide":    {[]byte(strings.Repeat("a,", 300) + "\n"), "at most 200"},
		"deep JSON":   {bytes.Repeat([]byte("["), 100_000), "it is no list in JSON"},
		"no headings": {[]byte("<html>\n<p>"), "nothing tells people apart"},
	} {
		j := d.uploads(t, "/people/import", `{}`, c.document)
		require.Equal(t, "failed", j.State, name)
		require.Contains(t, j.Failure, c.say, name)
	}
	j := d.uploads(t, "/people/import", `{"by":"userName"}`, []byte("userName\nx\"y\n"+strings.Repeat("x", 5000)+
		"\nok\n"))
	require.Equal(t, 2, j.Imported.BadRows)
	require.Equal(t, 1, j.Imported.New)
	require.False(t, j.Imported.Stored)
}

// What several do at the same moment ends as if they had come one after the other.
func TestPeopleAtTheSameMoment(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	at := func(n int, do func(i int) int) (codes []int) {
		codes = make([]int, n)
		var wait sync.WaitGroup
		for i := range n {
			wait.Go(func() { codes[i] = do(i) })
		}
		wait.Wait()
		sort.Ints(codes)
		return codes
	}
	sends := func(method, path, body string) int { status, _ := d.sends(t, method, path, body); return status }
	made := at(6, func(i int) int { return sends("PUT", "/groups/night", fmt.Sprintf(`{"title":"%d","revision":0}`, i)) })
	require.Equal(t, http.StatusOK, made[0], made)
	require.Greater(t, made[1], 400, made)

	for _, n := range []string{"one", "two"} {
		require.Equal(t, http.StatusOK, sends("PUT", "/groups/"+n, `{"title":"x","revision":0}`))
	}
	circle := at(2, func(i int) int {
		of, in := []string{"one", "two"}[i], []string{"two", "one"}[i]
		return sends("PUT", "/groups/"+of, `{"title":"x","inside":"`+in+`","revision":1}`)
	})
	require.Equal(t, []int{http.StatusOK, http.StatusUnprocessableEntity}, circle, "one of the two")

	at(30, func(i int) int {
		return sends("PATCH", "/people/3", fmt.Sprintf(`{"values":{"a%d":["x"]},"join":[{"kind":"group","name":"night"}]}`,
			i))
	})
	p, err := client.Call(t.Context(), d.client(), api.ShowPerson, api.Number(3))
	require.NoError(t, err)
	require.Len(t, p.Values, 34, "no edit is lost")

	digest := func(a, b int64) string {
		j, err := client.Call(t.Context(), d.client(), api.JoinPeople, api.ToPerson(a,
			api.PersonJoin{Other: b, Preview: true}))
		require.NoError(t, err)
		return j.Digest
	}
	digests := []string{digest(1, 2), digest(2, 1)}
	joined := at(2, func(i int) int {
		return sends("POST", fmt.Sprintf("/people/%d/join", i+1), fmt.Sprintf(`{"other":%d,"digest":"%s"}`, 2-i, digests[i]))
	})
	require.Equal(t, http.StatusOK, joined[0])
	require.Greater(t, joined[1], 400, "one is gone, the other is there")
	left, err := client.Call(t.Context(), d.client(), api.ListPeople, api.PeoplePage{Limit: 1})
	require.NoError(t, err)
	require.EqualValues(t, 17, left.Total)
}

// Whoever comes by either of their two links is the same person to every application.
func TestOnePersonByTwoProviders(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	_, stderr, code := d.cli(t, "", "app", "set", "track-access", "nameIdFormat=persistent")
	require.Zero(t, code, stderr)
	come := func(provider, password string) {
		v := newVisitor(t)
		v.get(d.Base+"/open/track-access").submit("provider", provider).onward()
		text := v.submit("username", "leo.quarrie", "password", password).onward().page.text
		require.Contains(t, text, "You are in as")
	}
	come("wrenmoor-staff", "wrenmoor-demo")
	come("oakhollow", "oakhollow-demo")
	out, _, code := d.cli(t, "", "person", "show", "12", "--output", "json")
	require.Zero(t, code)
	var p api.PersonShown
	require.NoError(t, json.Unmarshal([]byte(out), &p))
	require.Len(t, p.Subjects, 1, "one lasting name")
	require.Len(t, p.Sessions, 2)
	require.Equal(t, "contractor", p.UserType)
	groups := []string{}
	for _, m := range p.Members {
		groups = append(groups, m.Name+" by "+m.Source.Word)
	}
	require.Contains(t, groups, "signalling-contractors by provider")
	out, _, code = d.cli(t, "", "trace", "list", "--limit", "1", "--output", "json")
	require.Zero(t, code)
	var list []api.TraceHead
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	out, _, code = d.cli(t, "", "trace", "show", list[0].ID)
	require.Zero(t, code)
	require.Contains(t, out, "Person: known")

	v := newVisitor(t)
	v.get(d.Base+"/open/track-access").submit("provider", "oakhollow").onward()
	require.Contains(t, v.submit("username", "petra.quill", "password", "oakhollow-demo").onward().page.text,
		"You are in as")
	out, _, code = d.cli(t, "", "--wide", "person", "list", "--search", "petra")
	require.Zero(t, code)
	require.Contains(t, out, "contractors, signalling-contractors, oakhollow",
		"somebody new lands where the organisation says")
}
