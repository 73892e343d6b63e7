package client_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

var ctx = context.Background()

// served is what a made-up gate was asked, and what it answers.
type served struct {
	method, path, query, body, kind, token string
}

func gate(t *testing.T, answer func(w http.ResponseWriter, asked int)) (*client.Client, *[]served) {
	var all []served
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			body = []byte("broken off")
		}
		all = append(all, served{r.Method, r.URL.Path, r.URL.RawQuery, string(body), r.Header.Get("Content-Type"),
			r.Header.Get("Authorization")})
		answer(w, len(all))
	}))
	t.Cleanup(srv.Close)
	return client.New(srv.URL+"/", "igt_x"), &all
}

func TestProblemsComeBackAsProblems(t *testing.T) {
	for _, c := range []struct {
		rule, answer string
		status       int
		title        string
	}{
		{"a problem", `{"title":"There is no such record","detail":"d","status":404}`, 404, "There is no such record"},
		{"a page of something else", "<html></html>", 502, "502"},
		{"an answer that is no gate's", "hello", 200, "not a gate"},
	} {
		cl, asked := gate(t, func(w http.ResponseWriter, _ int) {
			w.WriteHeader(c.status)
			_, _ = io.WriteString(w, c.answer)
		})
		_, err := client.Call(ctx, cl, api.RecordsOf("provider").Show, api.Name("a/b"))
		var p *api.Problem
		require.ErrorAs(t, err, &p, c.rule)
		require.Contains(t, p.Title, c.title, c.rule)
		require.Equal(t, served{method: "GET", path: "/api/v1/providers/a/b", token: "Bearer igt_x"}, (*asked)[0], c.rule)
	}
	_, err := client.Call(ctx, client.New("http://127.0.0.1:1", "x"), api.ShowGate, api.None{})
	require.ErrorContains(t, err, "INNERGATE_URL")
}

func TestRemarkGoesWithChangesOnly(t *testing.T) {
	cl, asked := gate(t, func(w http.ResponseWriter, _ int) { _, _ = io.WriteString(w, "{}") })
	cl.Remark = "agreed & done"
	_, err := client.Call(ctx, cl, api.RecordsOf("application").Show, api.Name("x"))
	require.NoError(t, err)
	require.NoError(t, client.Do(ctx, cl, api.RecordsOf("application").Remove, api.Name("x")))
	_, err = client.Call(ctx, cl, api.ListChecks, api.CheckFilter{Names: []string{"a", "b"}, Severity: "error"})
	require.NoError(t, err)
	_, err = client.Call(ctx, cl, api.RecordsOf("provider").Retake, api.To("p", api.Retake{Revision: 3,
		Given: api.Given{Typed: federation.Typed{"entityId": "urn:x"}}}))
	require.NoError(t, err)
	require.Equal(t, []string{"", "remark=agreed+%26+done",
		"name=a&name=b&severity=error", "remark=agreed+%26+done"},
		[]string{(*asked)[0].query, (*asked)[1].query, (*asked)[2].query, (*asked)[3].query})
	require.Equal(t, "/api/v1/providers/p/metadata", (*asked)[3].path)
	require.JSONEq(t, `{"revision":3,"typed":{"entityId":"urn:x"}}`, (*asked)[3].body)
}

func TestUploadIsSentAsItIsRead(t *testing.T) {
	cl, asked := gate(t, func(w http.ResponseWriter, _ int) { _, _ = io.WriteString(w, `{"id":"j","state":"running"}`) })
	j, err := client.Upload(ctx, cl, api.UploadAggregate, api.None{}, api.NewAggregate{Name: "lines"},
		strings.NewReader("<a/>"))
	require.NoError(t, err)
	require.Equal(t, "j", j.ID)
	require.Contains(t, (*asked)[0].kind, "multipart/form-data")
	settings, document := strings.Index((*asked)[0].body, `{"name":"lines"}`), strings.Index((*asked)[0].body, "<a/>")
	require.True(t, settings > 0 && document > settings, (*asked)[0].body)
	_, err = client.Upload(ctx, cl, api.UploadEdition, api.Name("lines"), nil,
		iotest.ErrReader(errors.New("the disk is gone")))
	require.ErrorContains(t, err, "the disk is gone", "a document that cannot be read is not sent as if it were whole")
}

func TestJobsAreFollowedToTheirEnd(t *testing.T) {
	for _, end := range []api.Job{{State: "done", Report: &api.Report{Entities: 3}},
		{State: "failed", Failure: "no good"}} {
		cl, _ := gate(t, func(w http.ResponseWriter, asked int) {
			j := api.Job{ID: "j", State: "running", Done: int64(asked)}
			if asked == 3 {
				j = end
			}
			_ = json.NewEncoder(w).Encode(j)
		})
		var told []int64
		j, err := cl.Wait(ctx, api.Job{ID: "j", State: "running"}, func(j api.Job) { told = append(told, j.Done) })
		require.Equal(t, []int64{0, 1, 2, 0}, told)
		require.Equal(t, end.State, j.State)
		require.Equal(t, end.State == "failed", err != nil)
		if err != nil {
			require.ErrorContains(t, err, "no good")
		}
	}
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_, err := client.New("http://127.0.0.1:1", "x").Wait(cancelled, api.Job{State: "running"}, func(api.Job) {})
	require.ErrorIs(t, err, context.Canceled)
}

// Every operation that the OpenAPI document has is declared, and so is a call of the client; and the
// other way round. What goes into the address is what the document says.
func TestCallsAreOperations(t *testing.T) {
	octets, err := os.ReadFile(filepath.Join("..", "..", "docs", "openapi.json"))
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	require.NoError(t, json.Unmarshal(octets, &doc))
	documented := map[string]bool{}
	for path, methods := range doc.Paths {
		for method, o := range methods {
			documented[strings.ToUpper(method)+" "+path+" "+o.OperationID] = true
		}
	}
	declared := map[string]bool{}
	add := func(c api.Call) { declared[c.Method+" /api/v1"+c.Path+" "+c.ID] = true }
	source, err := os.ReadFile(filepath.Join("..", "api", "operations.go"))
	require.NoError(t, err)
	methods := map[string]string{"gets": "GET", "adds": "POST", "does": "POST", "looks": "POST", "starts": "POST",
		"puts":    "PUT",
		"patches": "PATCH", "removes": "DELETE"}
	line := regexp.MustCompile(`= (\w+)\[.*\]\((?:http\.Method(\w+), )?"([^"]+)",\s+"([^"]+)"`)
	for _, m := range line.FindAllStringSubmatch(string(source), -1) {
		add(api.Call{Method: cmp.Or(methods[m[1]], strings.ToUpper(m[2])), Path: m[3], ID: m[4]})
	}
	for _, of := range []any{api.Providers, api.Applications, api.UnitsOf("group"), api.UnitsOf("organisation")} {
		for i := range reflect.ValueOf(of).NumField() {
			add(reflect.ValueOf(of).Field(i).FieldByName("Call").Interface().(api.Call))
		}
	}
	require.Equal(t, documented, declared)
}

func TestWhatIsSentGoesWhereItBelongs(t *testing.T) {
	cl, asked := gate(t, func(w http.ResponseWriter, _ int) { _, _ = io.WriteString(w, "{}") })
	_, err := client.Call(ctx, cl, api.ListEntities, api.EntityFilter{Named: api.Name("a/b c"), Search: "é&=", Limit: 3})
	require.NoError(t, err)
	_, err = client.Call(ctx, cl, api.ListTraces, api.TraceFilter{Since: time.Date(2026, 3, 1, 12, 0, 0, 0,
		time.FixedZone("", 3600))})
	require.NoError(t, err)
	_, err = client.Call(ctx, cl, api.WithdrawConsent, api.OneConsent{Named: api.Name("x"), Person: 7})
	require.NoError(t, err)
	got := []string{}
	for _, a := range *asked {
		got = append(got, a.method+" "+a.path+"?"+a.query+" "+a.body)
	}
	require.Equal(t, []string{"GET /api/v1/aggregates/a/b c/entities?limit=3&search=%C3%A9%26%3D ",
		"GET /api/v1/traces?since=2026-03-01T11%3A00%3A00Z ", "DELETE /api/v1/applications/x/consents/7? "}, got)
}
