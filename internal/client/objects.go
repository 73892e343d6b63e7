package client

import (
	"context"
	"net/http"
	"net/url"

	"innergate.example/innergate/internal/api"
)

// Kinds describes the settings of every kind of objects.
func (c *Client) Kinds(ctx context.Context) ([]api.Kind, error) {
	return get[[]api.Kind](ctx, c, "/kinds")
}

func objectPath(kind, name string) string {
	return "/objects/" + url.PathEscape(kind) + "/" + url.PathEscape(name)
}

// Objects lists objects of a kind by name.
func (c *Client) Objects(ctx context.Context, kind, search string) (api.List[api.ObjectRow], error) {
	q := url.Values{"search": {search}}
	return get[api.List[api.ObjectRow]](ctx, c, "/objects/"+url.PathEscape(kind)+"?"+q.Encode())
}

// Object shows one object, and what names it.
func (c *Client) Object(ctx context.Context, kind, name string) (api.Object, error) {
	return get[api.Object](ctx, c, objectPath(kind, name))
}

// LookAtObject tells what laying settings over an object would come to.
func (c *Client) LookAtObject(ctx context.Context, kind, name string, in api.ObjectChange) (api.ObjectLooked, error) {
	return post[api.ObjectLooked](ctx, c, objectPath(kind, name)+"/preview", in)
}

// PutObject makes an object, or lays settings over it.
func (c *Client) PutObject(ctx context.Context, kind, name string, in api.ObjectChange) (out api.Object, err error) {
	err = c.call(ctx, http.MethodPut, objectPath(kind, name), in, &out)
	return out, err
}

// RemoveObject removes an object that nothing names.
func (c *Client) RemoveObject(ctx context.Context, kind, name string) error {
	return c.call(ctx, http.MethodDelete, objectPath(kind, name), nil, nil)
}
