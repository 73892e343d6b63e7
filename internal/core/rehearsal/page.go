package rehearsal

import (
	"bytes"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// Page is what a browser without scripts has of a page.
type Page struct {
	Address *url.URL
	Title   string
	Text    string // what stands on it, clipped
	Alert   string // what it says where it reports an error (WAI-ARIA, role alert)
	Forms   []Form
	Refresh *url.URL // where it leads by itself (HTML §4.2.5.3), nil for nowhere
	Scripts bool
	Frames  bool
}

// Form is one form of a page (HTML §4.10.3).
type Form struct {
	Post   bool
	Action *url.URL
	Coding string // of what is sent, "" for the usual one
	Inputs []Input
}

// Input is a control of a form.
type Input struct {
	Type, Name, Value string
	Fill              string // what it is for (autocomplete, HTML §4.10.19.7)
	Label             string
	Unset             bool // a box that is not ticked: nothing is sent of it
	Required          bool
}

// Bounds of a page.
const (
	mostForms  = 50
	mostInputs = 500
	mostText   = 300 // octets of what stands on it
)

// ReadPage reads a page, whatever it is: what is no HTML has no forms.
func ReadPage(address *url.URL, octets []byte) Page {
	p := Page{Address: address}
	root, err := html.Parse(bytes.NewReader(octets))
	if err != nil {
		return p
	}
	r := &pageReader{page: &p, base: address}
	r.read(root, -1)
	p.Text, p.Title, p.Alert = clipped(r.text.String()), clipped(p.Title), clipped(r.alert.String())
	return p
}

type pageReader struct {
	page        *Page
	base        *url.URL
	text, alert strings.Builder
	label       string
	alerting    bool
}

func clipped(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > mostText {
		text = strings.ToValidUTF8(text[:mostText], "") + "…"
	}
	return text
}

func attribute(n *html.Node, name string) (string, bool) {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val, true
		}
	}
	return "", false
}

func says(n *html.Node, name string) string { v, _ := attribute(n, name); return strings.TrimSpace(v) }

// read goes through a part of the page; form is the one that it stands in, -1 for none.
func (r *pageReader) read(n *html.Node, form int) {
	switch n.Type {
	case html.TextNode:
		if r.text.Len() < 4*mostText {
			r.text.WriteString(n.Data + " ")
		}
		if r.alerting && r.alert.Len() < 4*mostText {
			r.alert.WriteString(n.Data + " ")
		}
		return
	case html.ElementNode:
		var deeper bool
		if form, deeper = r.element(n, form); !deeper {
			return
		}
	}
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		r.read(c, form)
	}
}

// element takes what an element says; deeper is false if nothing in it is read.
func (r *pageReader) element(n *html.Node, form int) (int, bool) {
	switch n.DataAtom {
	case atom.Title:
		r.page.Title = inner(n)
		return form, false
	case atom.Script:
		r.page.Scripts = true
		return form, false
	case atom.Style, atom.Template, atom.Noscript, atom.Svg:
		return form, n.DataAtom == atom.Noscript
	case atom.Iframe, atom.Frame, atom.Object, atom.Embed:
		r.page.Frames = true
		return form, false
	case atom.Base:
		if to := r.resolve(says(n, "href")); to != nil {
			r.base = to
		}
	case atom.Meta:
		if strings.EqualFold(says(n, "http-equiv"), "refresh") {
			if _, to, leads := strings.Cut(says(n, "content"), "="); leads {
				r.page.Refresh = r.resolve(strings.Trim(to, `'" `))
			}
		}
	case atom.Label:
		r.label = clipped(inner(n))
	case atom.Form:
		return r.form(n), true
	case atom.Input, atom.Button, atom.Select, atom.Textarea:
		r.input(n, form)
		return form, false
	}
	if says(n, "role") == "alert" {
		r.alerting = true
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			r.read(c, form)
		}
		r.alerting = false
		return form, false
	}
	return form, true
}

func (r *pageReader) form(n *html.Node) int {
	if len(r.page.Forms) >= mostForms {
		return -1
	}
	f := Form{Post: strings.EqualFold(says(n, "method"), "post"), Action: r.resolve(says(n, "action"))}
	if f.Coding = strings.ToLower(says(n, "enctype")); f.Coding == "application/x-www-form-urlencoded" {
		f.Coding = ""
	}
	r.page.Forms = append(r.page.Forms, f)
	return len(r.page.Forms) - 1
}

func (r *pageReader) resolve(to string) *url.URL {
	u, err := url.Parse(to)
	if err != nil {
		return nil
	}
	u = r.base.ResolveReference(u)
	u.Fragment = ""
	return u
}

// inner is the text within an element.
func inner(n *html.Node) string {
	var out strings.Builder
	var in func(*html.Node)
	in = func(n *html.Node) {
		if n.Type == html.TextNode && out.Len() < 4*mostText {
			out.WriteString(n.Data + " ")
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			in(c)
		}
	}
	in(n)
	return out.String()
}

func (r *pageReader) input(n *html.Node, form int) {
	if form < 0 || len(r.page.Forms[form].Inputs) >= mostInputs {
		return
	}
	i := Input{Type: strings.ToLower(says(n, "type")), Name: says(n, "name"),
		Fill: strings.ToLower(says(n, "autocomplete")), Label: r.label}
	i.Value, _ = attribute(n, "value")
	_, i.Required = attribute(n, "required")
	if _, disabled := attribute(n, "disabled"); disabled {
		return
	}
	switch n.DataAtom {
	case atom.Button:
		if i.Type != "button" && i.Type != "reset" {
			i.Type = "submit"
		}
	case atom.Select:
		i.Type, i.Value = "select", selected(n)
	case atom.Textarea:
		i.Type, i.Value = "textarea", inner(n)
	default:
		if i.Type == "" {
			i.Type = "text"
		}
	}
	if i.Type == "checkbox" || i.Type == "radio" {
		_, on := attribute(n, "checked")
		if i.Unset = !on; i.Value == "" {
			i.Value = "on"
		}
	}
	if i.Type != "hidden" {
		r.label = ""
	}
	r.page.Forms[form].Inputs = append(r.page.Forms[form].Inputs, i)
}

// selected is the value that a list has chosen, else that of its first entry.
func selected(n *html.Node) (value string) {
	first := true
	var in func(*html.Node)
	in = func(n *html.Node) {
		if n.DataAtom == atom.Option {
			v, has := attribute(n, "value")
			if !has {
				v = strings.TrimSpace(inner(n))
			}
			if _, is := attribute(n, "selected"); is || first {
				value, first = v, false
			}
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			in(c)
		}
	}
	in(n)
	return value
}

// of gives the controls of some types.
func (f Form) of(types ...string) (out []Input) {
	for _, i := range f.Inputs {
		if slices.Contains(types, i.Type) {
			out = append(out, i)
		}
	}
	return out
}

// sent is what a form sends that nobody has filled in, by its default button (HTML §4.10.21.2).
func (f Form) sent() url.Values {
	out := url.Values{}
	pressed := false
	for _, i := range f.Inputs {
		if i.Type == "submit" || i.Type == "image" {
			if pressed {
				continue
			}
			pressed = true
		}
		if i.Name != "" && !i.Unset && !slices.Contains([]string{"button", "reset", "file", "image"}, i.Type) {
			out.Add(i.Name, i.Value)
		}
	}
	return out
}
