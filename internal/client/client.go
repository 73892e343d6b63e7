// Package client calls the API of a gate. The command line and the tests use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/api"
)

// Client calls one gate with one token.
type Client struct {
	base, token string
	http        *http.Client
	// Remark, if set, is kept with every change in the history: why it was made.
	Remark string
}

// New makes a client for the gate at a base address.
func New(base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{Timeout: 60 * time.Second}}
}

// Through makes a client that calls with the given HTTP client.
func Through(h *http.Client, base, token string) *Client {
	c := New(base, token)
	c.http = h
	return c
}

// call sends a request and decodes the answer. A problem of the API comes back
// as *api.Problem.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		octets, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(octets)
	}
	kind := ""
	if in != nil {
		kind = "application/json"
	}
	return c.send(ctx, c.http, method, path, kind, body, out)
}

// send sends a body as it is.
func (c *Client) send(ctx context.Context, h *http.Client, method, path, kind string, body io.Reader, out any) error {
	if c.Remark != "" && method != http.MethodGet {
		joint := "?"
		if strings.Contains(path, "?") {
			joint = "&"
		}
		path += joint + "remark=" + url.QueryEscape(c.Remark)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Accept", "application/json, application/problem+json")
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	res, err := h.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return &api.Problem{Title: "the gate at " + c.base + " does not answer: " + err.Error(),
			Detail: "See that it runs, and that INNERGATE_URL or --url is its address."}
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, 256<<20))
	if err != nil {
		return err
	}
	if res.StatusCode >= 400 {
		p := &api.Problem{}
		if json.Unmarshal(octets, p) != nil || p.Title == "" {
			return &api.Problem{Status: res.StatusCode, Title: fmt.Sprintf("%s answered %s", c.base, res.Status),
				Detail: "See that INNERGATE_URL or --url is the address of a gate."}
		}
		p.Status = res.StatusCode
		return p
	}
	if out == nil || len(octets) == 0 {
		return nil
	}
	if err := json.Unmarshal(octets, out); err != nil {
		return &api.Problem{Title: c.base + " is not a gate: its answer cannot be read",
			Detail: "See that INNERGATE_URL or --url is the address of a gate."}
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	err := c.call(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	var out T
	err := c.call(ctx, http.MethodPost, path, in, &out)
	return out, err
}

func search(s string) string {
	if s == "" {
		return ""
	}
	return "?search=" + url.QueryEscape(s)
}

// About asks what the gate says of itself.
func (c *Client) About(ctx context.Context) (api.About, error) {
	return get[api.About](ctx, c, "/gate")
}

// Contexts gives how authentication contexts rank.
func (c *Client) Contexts(ctx context.Context) (api.Contexts, error) {
	return get[api.Contexts](ctx, c, "/contexts")
}

// ChangeContexts replaces the ranking.
func (c *Client) ChangeContexts(ctx context.Context, in api.Contexts) (out api.Contexts, err error) {
	err = c.call(ctx, http.MethodPut, "/contexts", in, &out)
	return out, err
}

// LinkFilter narrows the list of links; zero values leave it wide.
type LinkFilter struct {
	Provider string
	Person   int64
	Limit    int
	After    string
}

// Links lists people's links.
func (c *Client) Links(ctx context.Context, f LinkFilter) (api.List[api.Link], error) {
	q := url.Values{}
	for name, v := range map[string]string{"provider": f.Provider, "after": f.After} {
		if v != "" {
			q.Set(name, v)
		}
	}
	for name, n := range map[string]int64{"person": f.Person, "limit": int64(f.Limit)} {
		if n != 0 {
			q.Set(name, strconv.FormatInt(n, 10))
		}
	}
	return get[api.List[api.Link]](ctx, c, "/links?"+q.Encode())
}

// LinkProviders lists the providers that people are linked to.
func (c *Client) LinkProviders(ctx context.Context) (api.List[api.LinkCount], error) {
	return get[api.List[api.LinkCount]](ctx, c, "/links/providers")
}

// CarryLinks lets people of one provider in by another, or tells what that comes to.
func (c *Client) CarryLinks(ctx context.Context, in api.Carry) (api.Carried, error) {
	return post[api.Carried](ctx, c, "/links/carry", in)
}

// Subjects lists by what an application knows people, after a person's number.
func (c *Client) Subjects(ctx context.Context, app string, after int64, limit int) (api.List[api.KnownSubject], error) {
	return get[api.List[api.KnownSubject]](ctx, c, fmt.Sprintf("/applications/%s/subjects?after=%d&limit=%d",
		url.PathEscape(app), after, limit))
}

// ImportSubjects has an application keep the values it knows people by, or tells
// what that comes to.
func (c *Client) ImportSubjects(ctx context.Context, app string, in api.Import) (api.Imported, error) {
	return post[api.Imported](ctx, c, "/applications/"+url.PathEscape(app)+"/subjects", in)
}

// Providers lists providers that match.
func (c *Client) Providers(ctx context.Context, s string) (api.List[api.Row], error) {
	return get[api.List[api.Row]](ctx, c, "/providers"+search(s))
}

// Provider shows one provider.
func (c *Client) Provider(ctx context.Context, name string) (api.Provider, error) {
	return get[api.Provider](ctx, c, "/providers/"+url.PathEscape(name))
}

// AddProvider adds a provider.
func (c *Client) AddProvider(ctx context.Context, n api.NewProvider) (api.Provider, error) {
	return post[api.Provider](ctx, c, "/providers", n)
}

// ChangeProvider replaces the settings of a provider.
func (c *Client) ChangeProvider(ctx context.Context, name string, change api.ProviderChange) (api.Provider, error) {
	var out api.Provider
	err := c.call(ctx, http.MethodPut, "/providers/"+url.PathEscape(name)+"/settings", change, &out)
	return out, err
}

// ChangeApplication replaces the settings of an application.
func (c *Client) ChangeApplication(ctx context.Context, name string, change api.ApplicationChange) (api.Application,
	error) {
	var out api.Application
	err := c.call(ctx, http.MethodPut, "/applications/"+url.PathEscape(name)+"/settings", change, &out)
	return out, err
}

// RemoveProvider removes a provider.
func (c *Client) RemoveProvider(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/providers/"+url.PathEscape(name), nil, nil)
}

// ProviderSheet gives what the provider needs from the gate.
func (c *Client) ProviderSheet(ctx context.Context, name string) (api.Sheet, error) {
	return get[api.Sheet](ctx, c, "/providers/"+url.PathEscape(name)+"/exchange")
}

// Applications lists applications that match.
func (c *Client) Applications(ctx context.Context, s string) (api.List[api.Row], error) {
	return get[api.List[api.Row]](ctx, c, "/applications"+search(s))
}

// Application shows one application.
func (c *Client) Application(ctx context.Context, name string) (api.Application, error) {
	return get[api.Application](ctx, c, "/applications/"+url.PathEscape(name))
}

// AddApplication adds an application.
func (c *Client) AddApplication(ctx context.Context, n api.NewApplication) (api.Application, error) {
	return post[api.Application](ctx, c, "/applications", n)
}

// RemoveApplication removes an application.
func (c *Client) RemoveApplication(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/applications/"+url.PathEscape(name), nil, nil)
}

// ApplicationSheet gives what the application needs from the gate.
func (c *Client) ApplicationSheet(ctx context.Context, name string) (api.Sheet, error) {
	return get[api.Sheet](ctx, c, "/applications/"+url.PathEscape(name)+"/exchange")
}

// TraceFilter narrows a list of traces.
type TraceFilter struct {
	Search, Result, Application, Provider string
	Limit                                 int
}

// Traces lists traces, newest first.
func (c *Client) Traces(ctx context.Context, f TraceFilter) (api.TraceList, error) {
	q := url.Values{}
	for k, v := range map[string]string{"search": f.Search, "result": f.Result, "application": f.Application,
		"provider": f.Provider} {
		if v != "" {
			q.Set(k, v)
		}
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return get[api.TraceList](ctx, c, "/traces?"+q.Encode())
}

// Trace shows one trace.
func (c *Client) Trace(ctx context.Context, id string) (api.Trace, error) {
	return get[api.Trace](ctx, c, "/traces/"+url.PathEscape(id))
}

// Keys lists the gate's own keys.
func (c *Client) Keys(ctx context.Context) (api.List[api.Key], error) {
	return get[api.List[api.Key]](ctx, c, "/keys")
}

// AnnounceKey makes the next key for a purpose.
func (c *Client) AnnounceKey(ctx context.Context, purpose, kind string) (api.List[api.Key], error) {
	return post[api.List[api.Key]](ctx, c, "/keys", map[string]string{"purpose": purpose, "kind": kind})
}

// SwitchKey makes the announced key the current one.
func (c *Client) SwitchKey(ctx context.Context, purpose string) (api.List[api.Key], error) {
	return post[api.List[api.Key]](ctx, c, "/keys/switch", map[string]string{"purpose": purpose})
}

// RemoveKey removes a key that is not the current one.
func (c *Client) RemoveKey(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/keys/"+url.PathEscape(id), nil, nil)
}

// Owners lists owners.
func (c *Client) Owners(ctx context.Context) (api.List[api.Owner], error) {
	return get[api.List[api.Owner]](ctx, c, "/owners")
}

// AddOwner adds an owner.
func (c *Client) AddOwner(ctx context.Context, username, password string) (api.Owner, error) {
	return post[api.Owner](ctx, c, "/owners", map[string]string{"username": username, "password": password})
}

// SetPassword gives an owner a new password.
func (c *Client) SetPassword(ctx context.Context, username, password string) error {
	return c.call(ctx, http.MethodPut, "/owners/"+url.PathEscape(username)+"/password",
		map[string]string{"password": password}, nil)
}

// RemoveOwner removes an owner.
func (c *Client) RemoveOwner(ctx context.Context, username string) error {
	return c.call(ctx, http.MethodDelete, "/owners/"+url.PathEscape(username), nil, nil)
}

// Tokens lists API tokens.
func (c *Client) Tokens(ctx context.Context) (api.List[api.Token], error) {
	return get[api.List[api.Token]](ctx, c, "/tokens")
}

// AddToken makes an API token.
func (c *Client) AddToken(ctx context.Context, name string) (api.Token, error) {
	return post[api.Token](ctx, c, "/tokens", map[string]string{"name": name})
}

// RemoveToken removes an API token.
func (c *Client) RemoveToken(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(name), nil, nil)
}

// Kinds of records, as their addresses spell them.
var paths = map[string]string{"provider": "/providers/", "application": "/applications/"}

// PreviewProvider shows what adding a provider would set or change.
func (c *Client) PreviewProvider(ctx context.Context, n api.NewProvider) (api.Preview, error) {
	return post[api.Preview](ctx, c, "/providers/preview", n)
}

// PreviewApplication shows what adding an application would set or change.
func (c *Client) PreviewApplication(ctx context.Context, n api.NewApplication) (api.Preview, error) {
	return post[api.Preview](ctx, c, "/applications/preview", n)
}

// Retake takes newer values of the other side into a record.
func (c *Client) Retake(ctx context.Context, kind, name string, r api.Retake) error {
	return c.call(ctx, http.MethodPut, paths[kind]+url.PathEscape(name)+"/metadata", r, nil)
}

// Document gives the document a record was taken in from.
func (c *Client) Document(ctx context.Context, kind, name string) (api.Text, error) {
	return get[api.Text](ctx, c, paths[kind]+url.PathEscape(name)+"/metadata")
}

// Refresh asks the metadata address of a record now.
func (c *Client) Refresh(ctx context.Context, kind, name string) (api.Refreshed, error) {
	return post[api.Refreshed](ctx, c, paths[kind]+url.PathEscape(name)+"/refresh", nil)
}

// Decide approves or declines the change of a record that waits.
func (c *Client) Decide(ctx context.Context, kind, name, decision, digest string) error {
	return c.call(ctx, http.MethodPost, paths[kind]+url.PathEscape(name)+"/"+decision, api.Decision{Digest: digest}, nil)
}

// Waiting lists changes that wait for approval.
func (c *Client) Waiting(ctx context.Context) (api.List[api.Pending], error) {
	return get[api.List[api.Pending]](ctx, c, "/waiting")
}

// CheckFilter narrows checks.
type CheckFilter struct {
	Names          []string
	Kind, Severity string
	Reach, All     bool
}

// Checks gives what can be known without a sign-in.
func (c *Client) Checks(ctx context.Context, f CheckFilter) (api.CheckList, error) {
	q := url.Values{"limit": {"20000"}, "name": f.Names, "reach": {strconv.FormatBool(f.Reach)},
		"all": {strconv.FormatBool(f.All)}}
	for k, v := range map[string]string{"kind": f.Kind, "severity": f.Severity} {
		if v != "" {
			q.Set(k, v)
		}
	}
	return get[api.CheckList](ctx, c, "/checks?"+q.Encode())
}

// HistoryFilter narrows the history.
type HistoryFilter struct {
	Kind, Name, Search string
	Limit              int
}

// History lists changes, the newest first.
func (c *Client) History(ctx context.Context, f HistoryFilter) (api.List[api.Change], error) {
	q := url.Values{"limit": {strconv.Itoa(f.Limit)}, "kind": {f.Kind}, "name": {f.Name}, "search": {f.Search}}
	return get[api.List[api.Change]](ctx, c, "/history?"+q.Encode())
}

// Change shows one change with before and after.
func (c *Client) Change(ctx context.Context, id string) (api.Revision, error) {
	return get[api.Revision](ctx, c, "/history/"+url.PathEscape(id))
}

// Restore sets a record back to what it was after a change.
func (c *Client) Restore(ctx context.Context, id string) (api.TakenEntity, error) {
	return post[api.TakenEntity](ctx, c, "/history/"+url.PathEscape(id)+"/restore", nil)
}

// Aggregates lists aggregates.
func (c *Client) Aggregates(ctx context.Context) (api.List[api.Aggregate], error) {
	return get[api.List[api.Aggregate]](ctx, c, "/aggregates")
}

// Aggregate shows one aggregate.
func (c *Client) Aggregate(ctx context.Context, name string) (api.Aggregate, error) {
	return get[api.Aggregate](ctx, c, "/aggregates/"+url.PathEscape(name))
}

// AddAggregate takes an aggregate in from its address.
func (c *Client) AddAggregate(ctx context.Context, n api.NewAggregate) (api.Job, error) {
	return post[api.Job](ctx, c, "/aggregates", n)
}

// UploadAggregate takes an aggregate in from a document, which is sent as it is
// read.
func (c *Client) UploadAggregate(ctx context.Context, n api.NewAggregate, document io.Reader) (api.Job, error) {
	settings, err := json.Marshal(n)
	if err != nil {
		return api.Job{}, err
	}
	return c.upload(ctx, "/aggregates/upload", settings, document)
}

// UploadEdition takes the next edition of an aggregate in from a document.
func (c *Client) UploadEdition(ctx context.Context, name string, document io.Reader) (api.Job, error) {
	return c.upload(ctx, "/aggregates/"+url.PathEscape(name)+"/upload", nil, document)
}

func (c *Client) upload(ctx context.Context, path string, settings []byte, document io.Reader) (job api.Job,
	err error) {
	r, w := io.Pipe()
	form := multipart.NewWriter(w)
	unread := make(chan error, 1)
	go func() {
		var err error
		if settings != nil {
			err = form.WriteField("settings", string(settings))
		}
		var part io.Writer
		if err == nil {
			part, err = form.CreateFormFile("document", "metadata.xml")
		}
		if err == nil {
			from := &noting{Reader: document}
			_, err = io.Copy(part, from)
			unread <- from.err
		}
		if err == nil {
			err = form.Close()
		}
		_ = w.CloseWithError(err) // never fails
	}()
	h := *c.http
	h.Timeout = 20 * time.Minute
	err = c.send(ctx, &h, http.MethodPost, path, form.FormDataContentType(), r, &job)
	_ = r.Close() // ends the writer, if the answer came early
	select {
	case cause := <-unread:
		if cause != nil {
			return job, fmt.Errorf("the document cannot be read: %w; nothing was taken in", cause)
		}
	default:
	}
	return job, err
}

// noting remembers why reading ended, other than by the end.
type noting struct {
	io.Reader
	err error
}

func (n *noting) Read(b []byte) (int, error) {
	got, err := n.Reader.Read(b)
	if err != nil && err != io.EOF {
		n.err = err
	}
	return got, err
}

// RefreshAggregate fetches an aggregate anew.
func (c *Client) RefreshAggregate(ctx context.Context, name string) (api.Job, error) {
	return post[api.Job](ctx, c, "/aggregates/"+url.PathEscape(name)+"/refresh", nil)
}

// ChangeAggregate replaces the settings of an aggregate.
func (c *Client) ChangeAggregate(ctx context.Context, name string, change api.AggregateChange) error {
	return c.call(ctx, http.MethodPut, "/aggregates/"+url.PathEscape(name)+"/settings", change, nil)
}

// RemoveAggregate removes an aggregate.
func (c *Client) RemoveAggregate(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/aggregates/"+url.PathEscape(name), nil, nil)
}

// EntityFilter narrows a list of entities.
type EntityFilter struct {
	Search, Role, State string
	Limit               int
}

// Entities searches an aggregate.
func (c *Client) Entities(ctx context.Context, name string, f EntityFilter) (api.List[api.Entity], error) {
	q := url.Values{"limit": {strconv.Itoa(f.Limit)}}
	for k, v := range map[string]string{"search": f.Search, "role": f.Role, "state": f.State} {
		if v != "" {
			q.Set(k, v)
		}
	}
	return get[api.List[api.Entity]](ctx, c, "/aggregates/"+url.PathEscape(name)+"/entities?"+q.Encode())
}

// TakeOver makes records of entities.
func (c *Client) TakeOver(ctx context.Context, name string, t api.TakeOver) (api.Job, error) {
	return post[api.Job](ctx, c, "/aggregates/"+url.PathEscape(name)+"/take", t)
}

// Wait follows a job to its end; tell is called with every state on the way. A
// job that failed comes back as *api.Problem.
func (c *Client) Wait(ctx context.Context, j api.Job, tell func(api.Job)) (api.Job, error) {
	for j.State == "running" {
		tell(j)
		select {
		case <-ctx.Done():
			return j, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
		var err error
		if j, err = get[api.Job](ctx, c, "/jobs/"+j.ID); err != nil {
			return j, err
		}
	}
	tell(j)
	if j.State == "failed" {
		return j, &api.Problem{Title: j.Failure, Detail: j.Failure, Finding: j.Refused,
			Status: http.StatusUnprocessableEntity}
	}
	return j, nil
}
