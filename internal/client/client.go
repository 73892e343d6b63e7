// Package client calls the API of a gate. The command line and the tests use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Accept", "application/json, application/problem+json")
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := c.http.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return &api.Problem{Title: "the gate at " + c.base + " does not answer: " + err.Error(), Detail: "See that it runs, and that INNERGATE_URL or --url is its address."}
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, 256<<20))
	if err != nil {
		return err
	}
	if res.StatusCode >= 400 {
		p := &api.Problem{}
		if json.Unmarshal(octets, p) != nil || p.Title == "" {
			return &api.Problem{Status: res.StatusCode, Title: fmt.Sprintf("%s answered %s", c.base, res.Status), Detail: "See that INNERGATE_URL or --url is the address of a gate."}
		}
		p.Status = res.StatusCode
		return p
	}
	if out == nil || len(octets) == 0 {
		return nil
	}
	if err := json.Unmarshal(octets, out); err != nil {
		return &api.Problem{Title: c.base + " is not a gate: its answer cannot be read", Detail: "See that INNERGATE_URL or --url is the address of a gate."}
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

// Providers lists providers that match.
func (c *Client) Providers(ctx context.Context, s string) (api.List[api.Provider], error) {
	return get[api.List[api.Provider]](ctx, c, "/providers"+search(s))
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
func (c *Client) ChangeApplication(ctx context.Context, name string, change api.ApplicationChange) (api.Application, error) {
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
func (c *Client) Applications(ctx context.Context, s string) (api.List[api.Application], error) {
	return get[api.List[api.Application]](ctx, c, "/applications"+search(s))
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
	for k, v := range map[string]string{"search": f.Search, "result": f.Result, "application": f.Application, "provider": f.Provider} {
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
	return c.call(ctx, http.MethodPut, "/owners/"+url.PathEscape(username)+"/password", map[string]string{"password": password}, nil)
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
