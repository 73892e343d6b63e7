package web

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"innergate.example/innergate/internal/core/crossing"
)

// Whatever goes along unseen arrives as it was, and is nothing but values.
func TestHiddenFields(t *testing.T) {
	fields := []crossing.Field{{Name: "SAMLResponse", Value: "PHNhbWw+L0E9PQ=="}, {Name: "RelayState",
		Value: `"><script>alert(1)</script>' onfocus='x' &amp; &#34; <!-- ü` + "\n\t"}, {Name: `a" onclick="x`, Value: ""}}
	for page, scripts := range map[string]int{"post.html": 1, "leave.html": 0} {
		var b bytes.Buffer
		require.NoError(t, pages.ExecuteTemplate(&b, page, view{Fields: fields, Location: "https://roster.example/acs"}))
		doc, err := html.Parse(&b)
		require.NoError(t, err)
		var got []crossing.Field
		for n := range doc.Descendants() {
			if n.Type == html.ElementNode && n.Data == "script" {
				scripts--
			}
			if n.Type == html.ElementNode && n.Data == "input" {
				require.Len(t, n.Attr, 3)
				got = append(got, crossing.Field{Name: n.Attr[1].Val, Value: n.Attr[2].Val})
			}
		}
		require.Equal(t, fields, got, page)
		require.Zero(t, scripts, "only the page's own in %s", page)
	}
}
