package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"innergate.example/innergate/internal/api"
)

// PeopleFilter narrows a list of people.
type PeopleFilter struct {
	Search, State, Group, Organisation, UserType, Provider string
	After                                                  string
	Limit                                                  int
}

func (f PeopleFilter) query() url.Values {
	q := url.Values{}
	for name, v := range map[string]string{"search": f.Search, "state": f.State, "group": f.Group, "organisation": f.Organisation,
		"userType": f.UserType, "provider": f.Provider, "after": f.After} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if f.Limit != 0 {
		q.Set("limit", fmt.Sprint(f.Limit))
	}
	return q
}

// People lists accounts by their numbers, or those that are searched for.
func (c *Client) People(ctx context.Context, f PeopleFilter) (api.People, error) {
	return get[api.People](ctx, c, "/people?"+f.query().Encode())
}

// ExportPeople gives people as a list, csv or json.
func (c *Client) ExportPeople(ctx context.Context, f PeopleFilter, form string) ([]byte, error) {
	q := f.query()
	q.Set("form", form)
	return c.document(ctx, "/people/export?"+q.Encode())
}

// ImportPeople takes a list of people in, or tells what that would come to.
func (c *Client) ImportPeople(ctx context.Context, how api.PeopleImport, document io.Reader) (api.Job, error) {
	settings, err := json.Marshal(how)
	if err != nil {
		return api.Job{}, err
	}
	return c.upload(ctx, "/people/import", settings, document)
}

// Person shows one, with what they hold.
func (c *Client) Person(ctx context.Context, number int64) (api.PersonShown, error) {
	return get[api.PersonShown](ctx, c, fmt.Sprint("/people/", number))
}

// PersonTold tells what an application would be told of somebody.
func (c *Client) PersonTold(ctx context.Context, number int64, app string) (api.Mapped, error) {
	return get[api.Mapped](ctx, c, fmt.Sprintf("/people/%d/told?application=%s", number, url.QueryEscape(app)))
}

// AddPerson makes somebody known before they come.
func (c *Client) AddPerson(ctx context.Context, in api.NewPerson) (api.PersonShown, error) {
	return post[api.PersonShown](ctx, c, "/people", in)
}

// ChangePerson changes what is kept of somebody, and where they belong.
func (c *Client) ChangePerson(ctx context.Context, number int64, in api.PersonChange) (out api.PersonShown, err error) {
	err = c.call(ctx, http.MethodPatch, fmt.Sprint("/people/", number), in, &out)
	return out, err
}

// StatePerson disables somebody, or enables them.
func (c *Client) StatePerson(ctx context.Context, number int64, what string) (api.PersonShown, error) {
	return post[api.PersonShown](ctx, c, fmt.Sprintf("/people/%d/%s", number, what), nil)
}

// LinkPerson links somebody to a further name of a provider for them.
func (c *Client) LinkPerson(ctx context.Context, number int64, in api.PersonLink) (api.PersonShown, error) {
	return post[api.PersonShown](ctx, c, fmt.Sprintf("/people/%d/links", number), in)
}

// PartPerson takes a link away from somebody; the answer is whose it is then.
func (c *Client) PartPerson(ctx context.Context, number int64, link string) (api.PersonShown, error) {
	return post[api.PersonShown](ctx, c, fmt.Sprintf("/people/%d/part", number), api.PersonPart{Link: link})
}

// JoinPeople makes one account of two, or tells what that would come to.
func (c *Client) JoinPeople(ctx context.Context, number int64, in api.PersonJoin) (api.PersonJoined, error) {
	return post[api.PersonJoined](ctx, c, fmt.Sprintf("/people/%d/join", number), in)
}

// RemovePerson removes somebody with all that is theirs.
func (c *Client) RemovePerson(ctx context.Context, number int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprint("/people/", number), nil, nil)
}

// Units lists groups or organisations; kind is group or organisation.
func (c *Client) Units(ctx context.Context, kind string) (api.List[api.Unit], error) {
	return get[api.List[api.Unit]](ctx, c, "/"+kind+"s")
}

// Unit shows one.
func (c *Client) Unit(ctx context.Context, kind, name string) (api.Unit, error) {
	return get[api.Unit](ctx, c, "/"+kind+"s/"+url.PathEscape(name))
}

// PutUnit makes one, or changes it.
func (c *Client) PutUnit(ctx context.Context, kind, name string, in api.UnitChange) (out api.Unit, err error) {
	err = c.call(ctx, http.MethodPut, "/"+kind+"s/"+url.PathEscape(name), in, &out)
	return out, err
}

// RemoveUnit removes one.
func (c *Client) RemoveUnit(ctx context.Context, kind, name string) error {
	return c.call(ctx, http.MethodDelete, "/"+kind+"s/"+url.PathEscape(name), nil, nil)
}

func comparisons(app string) string { return "/applications/" + url.PathEscape(app) + "/comparisons" }

// CompareAccounts compares the accounts of an application with people.
func (c *Client) CompareAccounts(ctx context.Context, app string, how api.CompareAccounts, document io.Reader) (api.Job, error) {
	settings, err := json.Marshal(how)
	if err != nil {
		return api.Job{}, err
	}
	return c.upload(ctx, comparisons(app), settings, document)
}

// Comparisons lists those that are kept.
func (c *Client) Comparisons(ctx context.Context, app string) (api.List[api.Comparison], error) {
	return get[api.List[api.Comparison]](ctx, c, comparisons(app))
}

// Comparison shows one with a page of its lines, of a verdict, "" for all.
func (c *Client) Comparison(ctx context.Context, app string, id int64, verdict string, offset, limit int) (api.ComparisonShown, error) {
	q := url.Values{}
	page(q, limit, offset)
	if verdict != "" {
		q.Set("verdict", verdict)
	}
	return get[api.ComparisonShown](ctx, c, fmt.Sprintf("%s/%d?%s", comparisons(app), id, q.Encode()))
}

// ExportComparison gives the lines of one as CSV.
func (c *Client) ExportComparison(ctx context.Context, app string, id int64, verdict string) ([]byte, error) {
	q := url.Values{}
	if verdict != "" {
		q.Set("verdict", verdict)
	}
	return c.document(ctx, fmt.Sprintf("%s/%d/export?%s", comparisons(app), id, q.Encode()))
}

// RemoveComparison removes one.
func (c *Client) RemoveComparison(ctx context.Context, app string, id int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprintf("%s/%d", comparisons(app), id), nil, nil)
}
