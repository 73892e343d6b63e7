package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"innergate.example/innergate/internal/api"
)

// Kinds of records, as their addresses spell them.
var paths = map[string]string{"provider": "/providers", "application": "/applications"}

func recordPath(kind, name string) string { return paths[kind] + "/" + url.PathEscape(name) }

// ListFilter narrows a list of records; zero values leave it wide.
type ListFilter struct {
	Search        string
	Limit, Offset int
}

// Records lists records of a kind.
func (c *Client) Records(ctx context.Context, kind string, f ListFilter) (api.List[api.Row], error) {
	q := url.Values{}
	if f.Search != "" {
		q.Set("search", f.Search)
	}
	page(q, f.Limit, f.Offset)
	return get[api.List[api.Row]](ctx, c, paths[kind]+"?"+q.Encode())
}

// Record shows one record; what only applications have is empty in a provider.
func (c *Client) Record(ctx context.Context, kind, name string) (api.Application, error) {
	return get[api.Application](ctx, c, recordPath(kind, name))
}

// AddRecord adds a provider or an application.
func (c *Client) AddRecord(ctx context.Context, kind string, n api.NewRecord) (api.Application, error) {
	return post[api.Application](ctx, c, paths[kind], n)
}

// PreviewRecord shows what adding a record would set, or change.
func (c *Client) PreviewRecord(ctx context.Context, kind string, n api.NewRecord) (api.Preview, error) {
	return post[api.Preview](ctx, c, paths[kind]+"/preview", n)
}

// ChangeRecord changes settings of a record.
func (c *Client) ChangeRecord(ctx context.Context, kind, name string, change api.RecordChange) (out api.Application,
	err error) {
	err = c.call(ctx, http.MethodPatch, recordPath(kind, name)+"/settings", change, &out)
	return out, err
}

// RemoveRecord removes a record.
func (c *Client) RemoveRecord(ctx context.Context, kind, name string) error {
	return c.call(ctx, http.MethodDelete, recordPath(kind, name), nil, nil)
}

// Sheet gives what the other side needs from the gate.
func (c *Client) Sheet(ctx context.Context, kind, name string) (api.Sheet, error) {
	return get[api.Sheet](ctx, c, recordPath(kind, name)+"/exchange")
}

// Retake takes newer values of the other side into a record, and gives it as it is
// then.
func (c *Client) Retake(ctx context.Context, kind, name string, r api.Retake) (out api.Record, err error) {
	err = c.call(ctx, http.MethodPut, recordPath(kind, name)+"/metadata", r, &out)
	return out, err
}

// Document gives the document a record was taken in from.
func (c *Client) Document(ctx context.Context, kind, name string) (api.Text, error) {
	return get[api.Text](ctx, c, recordPath(kind, name)+"/metadata")
}

// Refresh asks the metadata address of a record now; again calls back a change
// that was declined.
func (c *Client) Refresh(ctx context.Context, kind, name string, again bool) (api.Refreshed, error) {
	path := recordPath(kind, name) + "/refresh"
	if again {
		path += "?again=true"
	}
	return post[api.Refreshed](ctx, c, path, nil)
}

// Decide approves or declines the change of a record that waits.
func (c *Client) Decide(ctx context.Context, kind, name, decision, digest string) error {
	return c.call(ctx, http.MethodPost, recordPath(kind, name)+"/"+decision, api.Decision{Digest: digest}, nil)
}

// Waiting lists changes that wait for approval.
func (c *Client) Waiting(ctx context.Context) (api.List[api.Pending], error) {
	return get[api.List[api.Pending]](ctx, c, "/waiting")
}

// PreviewMany tells what a change of many records would come to.
func (c *Client) PreviewMany(ctx context.Context, m api.Many) (api.ManyPreview, error) {
	return post[api.ManyPreview](ctx, c, "/changes/preview", m)
}

// ChangeMany changes or removes many records at once.
func (c *Client) ChangeMany(ctx context.Context, m api.Many) (api.ManyPreview, error) {
	return post[api.ManyPreview](ctx, c, "/changes", m)
}

// ConnectionFilter narrows a list of connections.
type ConnectionFilter struct {
	Search, State string
	Limit, Offset int
}

// Connections lists applications with their providers, and whether they work.
func (c *Client) Connections(ctx context.Context, f ConnectionFilter) (api.ConnectionList, error) {
	q := url.Values{}
	for k, v := range map[string]string{"search": f.Search, "state": f.State} {
		if v != "" {
			q.Set(k, v)
		}
	}
	page(q, f.Limit, f.Offset)
	return get[api.ConnectionList](ctx, c, "/connections?"+q.Encode())
}

// CheckFilter narrows checks.
type CheckFilter struct {
	Names                      []string
	Kind, Severity, Code, Side string
	Reach, All                 bool
	Limit, Offset              int
}

// Checks gives what can be known without a sign-in.
func (c *Client) Checks(ctx context.Context, f CheckFilter) (api.CheckList, error) {
	q := url.Values{"limit": {"20000"}, "name": f.Names, "reach": {strconv.FormatBool(f.Reach)},
		"all": {strconv.FormatBool(f.All)}}
	for k, v := range map[string]string{"kind": f.Kind, "severity": f.Severity, "code": f.Code, "side": f.Side} {
		if v != "" {
			q.Set(k, v)
		}
	}
	page(q, f.Limit, f.Offset)
	return get[api.CheckList](ctx, c, "/checks?"+q.Encode())
}

// Acknowledge has findings count no more, until a date.
func (c *Client) Acknowledge(ctx context.Context, a api.Acknowledge) error {
	return c.call(ctx, http.MethodPost, "/checks/acknowledge", a, nil)
}

// Withdraw has acknowledged findings count again.
func (c *Client) Withdraw(ctx context.Context, w api.Withdraw) error {
	return c.call(ctx, http.MethodPost, "/checks/withdraw", w, nil)
}

// HistoryFilter narrows the history.
type HistoryFilter struct {
	Kind, Name, Search string
	Limit              int
	Before             int64
}

// History lists changes, the newest first.
func (c *Client) History(ctx context.Context, f HistoryFilter) (api.List[api.Change], error) {
	q := url.Values{"limit": {strconv.Itoa(f.Limit)}, "kind": {f.Kind}, "name": {f.Name}, "search": {f.Search}}
	if f.Before > 0 {
		q.Set("before", strconv.FormatInt(f.Before, 10))
	}
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

// Undo takes a change back, with all that were made together with it.
func (c *Client) Undo(ctx context.Context, id string) (api.Undone, error) {
	return post[api.Undone](ctx, c, "/history/"+url.PathEscape(id)+"/undo", nil)
}
