package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"innergate.example/innergate/internal/api"
)

// Rotate gives an application another client secret.
func (c *Client) Rotate(ctx context.Context, name string, r api.Rotation) (api.Rotated, error) {
	return post[api.Rotated](ctx, c, recordPath("application", name)+"/secret", r)
}

// PersonFilter narrows a list of what belongs to people; zero values leave it wide.
type PersonFilter struct {
	Person        int64
	Limit, Offset int
}

func (f PersonFilter) query() string {
	q := url.Values{}
	if f.Person != 0 {
		q.Set("person", strconv.FormatInt(f.Person, 10))
	}
	page(q, f.Limit, f.Offset)
	return "?" + q.Encode()
}

// Grants lists what sign-ins gave an application.
func (c *Client) Grants(ctx context.Context, name string, f PersonFilter) (api.List[api.Grant], error) {
	return get[api.List[api.Grant]](ctx, c, recordPath("application", name)+"/grants"+f.query())
}

// Consents lists what people agreed to that an application may be told.
func (c *Client) Consents(ctx context.Context, name string, f PersonFilter) (api.List[api.Consent], error) {
	return get[api.List[api.Consent]](ctx, c, recordPath("application", name)+"/consents"+f.query())
}

// WithdrawConsent takes back what somebody agreed to, and ends what their sign-ins gave the
// application.
func (c *Client) WithdrawConsent(ctx context.Context, name string, person int64) (out api.Withdrawn, err error) {
	path := recordPath("application", name) + "/consents/" + strconv.FormatInt(person, 10)
	err = c.call(ctx, http.MethodDelete, path, nil, &out)
	return out, err
}
