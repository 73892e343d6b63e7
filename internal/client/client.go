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
	"reflect"
	"strings"
	"time"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
)

// Client calls one gate with one token.
type Client struct {
	base, token string
	http        *http.Client
	// Remark, if set, is kept with every change in the history: why it was made.
	Remark string
	// Confirm, if set, is the digest of a consequence that was looked at.
	Confirm string
	// Meant, if set, is asked about a change by which somebody loses something: whether it is made all the same.
	Meant func(lost *finding.Finding) bool
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
	err := c.once(ctx, method, path, in, out)
	var p *api.Problem
	if c.Meant == nil || !errors.As(err, &p) || p.Finding == nil {
		return err
	}
	for _, ev := range p.Finding.Evidence {
		if ev.Label == finding.ToConfirm && c.Confirm != ev.Found && c.Meant(p.Finding) {
			again := *c
			again.Confirm, again.Meant = ev.Found, nil
			return again.once(ctx, method, path, in, out)
		}
	}
	return err
}

func (c *Client) once(ctx context.Context, method, path string, in, out any) error {
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

// Call makes a call of the API. A problem comes back as *api.Problem.
func Call[In, Out any](ctx context.Context, c *Client, o api.Operation[In, Out], in In) (out Out, err error) {
	path, body := address(o.Path, in)
	err = c.call(ctx, o.Method, path, body, &out)
	return out, err
}

// Do makes a call that answers nothing.
func Do[In any](ctx context.Context, c *Client, o api.Operation[In, api.None], in In) error {
	_, err := Call(ctx, c, o, in)
	return err
}

// Upload makes a call with a document that is sent as it is read, behind settings, nil for none.
func Upload[In any](ctx context.Context, c *Client, o api.Operation[In, api.Job], in In, settings any,
	document io.Reader) (api.Job, error) {
	path, _ := address(o.Path, in)
	if settings == nil {
		return c.upload(ctx, path, nil, document)
	}
	octets, err := json.Marshal(settings)
	if err != nil {
		return api.Job{}, err
	}
	return c.upload(ctx, path, octets, document)
}

// address is where a call goes, with what is sent in the address, and its body.
func address(path string, in any) (string, any) {
	query, body := url.Values{}, any(nil)
	var walk func(reflect.Value)
	walk = func(v reflect.Value) {
		for i := range v.NumField() {
			f, x := v.Type().Field(i), v.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("query"), ",")
			switch {
			case f.Anonymous:
				walk(x)
			case f.Name == "Body":
				body = x.Interface()
			case f.Tag.Get("path") != "":
				path = strings.ReplaceAll(path, "{"+f.Tag.Get("path")+"}", url.PathEscape(fmt.Sprint(x.Interface())))
			case name != "" && !x.IsZero():
				query[name] = texts(x)
			}
		}
	}
	walk(reflect.ValueOf(in))
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return path, body
}

// texts writes a value as an address has it.
func texts(v reflect.Value) (out []string) {
	if list, is := v.Interface().([]string); is {
		return list
	}
	if at, is := v.Interface().(time.Time); is {
		return []string{at.UTC().Format(time.RFC3339)}
	}
	return []string{fmt.Sprint(v.Interface())}
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
		if j, err = Call(ctx, c, api.ShowJob, api.Name(j.ID)); err != nil {
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

// TokenOf makes the token request of a service, by its secret (RFC 6749 §4.4, §2.3.1), with further parameters. The
// token is dropped; said is the error that was answered, "" for none.
func (c *Client) TokenOf(ctx context.Context, address, id, secret string, with map[string]string) (said string,
	err error) {
	form := url.Values{"grant_type": {"client_credentials"}}
	for name, v := range with {
		if v != "" {
			form.Set(name, v)
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.SetBasicAuth(url.QueryEscape(id), url.QueryEscape(secret))
	res, err := c.http.Do(req)
	if err != nil {
		return "", c.silent(err)
	}
	defer res.Body.Close()
	var answer struct {
		Error       string `json:"error"`
		Description string `json:"error_description"`
	}
	err = json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&answer)
	return strings.TrimSpace(answer.Error + " " + answer.Description), err
}
