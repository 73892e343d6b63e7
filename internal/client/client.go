// Package client calls the API of a gate. The command line and the tests use it.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
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
	// Confirm, if set, is the digest of a consequence that was looked at.
	Confirm string
}

// New makes a client for the gate at a base address.
func New(base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{Timeout: 60 * time.Second}}
}

// Trusting makes a client that believes certificates which rest on authorities
// beside those of the system.
func Trusting(base, token string, authorities *x509.CertPool) *Client {
	c := New(base, token)
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.TLSClientConfig = &tls.Config{RootCAs: authorities, MinVersion: tls.VersionTLS12}
	c.http.Transport = way
	return c
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
	for name, v := range map[string]string{"remark": c.Remark, "confirm": c.Confirm} {
		if v == "" || method == http.MethodGet {
			continue
		}
		joint := "?"
		if strings.Contains(path, "?") {
			joint = "&"
		}
		path += joint + name + "=" + url.QueryEscape(v)
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
		return c.silent(err)
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
	if raw, ok := out.(*[]byte); ok {
		*raw = octets
		return nil
	}
	if err := json.Unmarshal(octets, out); err != nil {
		return &api.Problem{Title: c.base + " is not a gate: its answer cannot be read",
			Detail: "See that INNERGATE_URL or --url is the address of a gate."}
	}
	return nil
}

// silent says why a gate does not answer, and what to do.
func (c *Client) silent(err error) error {
	p := &api.Problem{Title: "the gate at " + c.base + " does not answer: " + err.Error(),
		Detail: "See that it runs, and that INNERGATE_URL or --url is its address."}
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var plain tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		p.Title = "the certificate of the gate at " + c.base + " rests on no authority that is known here"
		p.Detail = "If it is that of your own, give its certificate in PEM with --ca-file or INNERGATE_CA_FILE."
	case errors.As(err, &name):
		p.Title = "the certificate of the gate at " + c.base + " is for another name: " + err.Error()
		p.Detail = "Call the gate by the name in its certificate, that of its base address."
	case errors.As(err, &plain):
		p.Title = "the gate at " + c.base + " does not speak https"
		p.Detail = "If it stands on this machine without a certificate, call it by http://."
	}
	return p
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

// document gets what is downloaded as it is.
func (c *Client) document(ctx context.Context, path string) (out []byte, err error) {
	err = c.call(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

// page asks for some entries of a list.
func page(q url.Values, limit, offset int) {
	if limit > 0 {
		q.Set("limit", strconv.Itoa(limit))
	}
	if offset > 0 {
		q.Set("offset", strconv.Itoa(offset))
	}
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

// TraceFilter narrows a list of traces.
type TraceFilter struct {
	Search, Result, Application, Provider string
	Since                                 time.Time
	Limit, Offset                         int
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
	if !f.Since.IsZero() {
		q.Set("since", f.Since.UTC().Format(time.RFC3339))
	}
	page(q, f.Limit, f.Offset)
	return get[api.TraceList](ctx, c, "/traces?"+q.Encode())
}

// TryMapping runs a recorded sign-in, or given values, through mappings.
func (c *Client) TryMapping(ctx context.Context, in api.MappingTrial) (out api.Mapped, err error) {
	err = c.call(ctx, http.MethodPost, "/mapping-trials", in, &out)
	return out, err
}

// ProposeMapping proposes a mapping for a record.
func (c *Client) ProposeMapping(ctx context.Context, kind, name string) (api.MappingProposal, error) {
	return get[api.MappingProposal](ctx, c, "/"+kind+"s/"+url.PathEscape(name)+"/mapping-proposal")
}

// Sets lists named mappings.
func (c *Client) Sets(ctx context.Context) ([]api.Set, error) {
	l, err := get[api.List[api.Set]](ctx, c, "/sets")
	return l.Items, err
}

// Set shows one.
func (c *Client) Set(ctx context.Context, name string) (api.Set, error) {
	return get[api.Set](ctx, c, "/sets/"+url.PathEscape(name))
}

// PutSet makes one, or changes it.
func (c *Client) PutSet(ctx context.Context, name string, in api.SetChange) (out api.Set, err error) {
	err = c.call(ctx, http.MethodPut, "/sets/"+url.PathEscape(name), in, &out)
	return out, err
}

// RemoveSet removes one that nobody shares.
func (c *Client) RemoveSet(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/sets/"+url.PathEscape(name), nil, nil)
}

// Notices lists what applications are to be told and did not answer yet.
func (c *Client) Notices(ctx context.Context, limit int) (api.List[api.Notice], error) {
	return get[api.List[api.Notice]](ctx, c, fmt.Sprint("/notices?limit=", limit))
}

// Weigh tells what a change would do to people who signed in lately.
func (c *Client) Weigh(ctx context.Context, in api.Proposed) (out api.Consequence, err error) {
	err = c.call(ctx, http.MethodPost, "/consequences/preview", in, &out)
	return out, err
}

// Reevaluate begins to run recorded crossings through a change.
func (c *Client) Reevaluate(ctx context.Context, in api.Reevaluation) (out api.Job, err error) {
	err = c.call(ctx, http.MethodPost, "/reevaluations", in, &out)
	return out, err
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

// AddToken makes an API token that ends at a time, or, if that is zero, does not.
func (c *Client) AddToken(ctx context.Context, name string, expires time.Time) (api.Token, error) {
	in := map[string]any{"name": name}
	if !expires.IsZero() {
		in["expires"] = expires
	}
	return post[api.Token](ctx, c, "/tokens", in)
}

// RemoveToken removes an API token.
func (c *Client) RemoveToken(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(name), nil, nil)
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
			part, err = form.CreateFormFile("document", "document")
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
	return c.call(ctx, http.MethodPatch, "/aggregates/"+url.PathEscape(name)+"/settings", change, nil)
}

// RemoveAggregate removes an aggregate.
func (c *Client) RemoveAggregate(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/aggregates/"+url.PathEscape(name), nil, nil)
}

// EntityFilter narrows a list of entities.
type EntityFilter struct {
	Search, Role, State string
	Limit, Offset       int
}

// Entities searches an aggregate.
func (c *Client) Entities(ctx context.Context, name string, f EntityFilter) (api.List[api.Entity], error) {
	q := url.Values{}
	page(q, f.Limit, f.Offset)
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

// PreviewTakeOver tells what making records of entities would come to.
func (c *Client) PreviewTakeOver(ctx context.Context, name string, t api.TakeOver) (api.TakePreview, error) {
	return post[api.TakePreview](ctx, c, "/aggregates/"+url.PathEscape(name)+"/take/preview", t)
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
		p := &api.Problem{Title: j.Failure, Detail: j.Failure, Finding: j.Refused, Status: http.StatusUnprocessableEntity}
		if j.Field != "" {
			p.Title, p.Errors = "What was given cannot be used", []api.FieldProblem{{Field: j.Field, Message: j.Failure}}
		}
		return j, p
	}
	return j, nil
}
