package xmlsec_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// generator writes odd but well-formed documents: prefixes declared, redeclared
// and unused, default namespaces set and unset, xml: attributes, references,
// CDATA, comments, processing instructions, line ends of all kinds. Namespace
// names have no ampersand: libxml2 leaves it bare in canonical octets, against
// Canonical XML §2.3.
type generator struct {
	rnd *rand.Rand
	b   strings.Builder
}

var uris = []string{"urn:a", "urn:b", "http://c.example/ns", "urn:d?x=1;y=2", "urn:a:longer"}

func (g *generator) pick(s ...string) string { return s[g.rnd.IntN(len(s))] }

func (g *generator) text(attr bool) string {
	var b strings.Builder
	for n := g.rnd.IntN(5); n > 0; n-- {
		piece := g.pick("x", "é", "日本", "𝄞", "&amp;", "&lt;", "&gt;", "&quot;", "&apos;", "&#13;", "&#xA;", "&#9;", "&#x20;",
			"&#233;", "\t", "\n", "\r\n", "\r", " ", "  ", "]]", "]", "'", ">")
		if attr && piece == "'" {
			piece = "&#39;"
		}
		if !attr && (piece == ">" || strings.HasPrefix(piece, "]")) {
			piece += " "
			if piece == "> " {
				piece = " >"
			}
		}
		b.WriteString(piece)
	}
	return b.String()
}

// element writes an element; bound maps the prefixes in scope to namespaces.
func (g *generator) element(depth int, bound map[string]string, id string) {
	scope := map[string]string{}
	for k, v := range bound {
		scope[k] = v
	}
	var attrs []string
	quote := func(name, v string) {
		attrs = append(attrs, g.pick(" ", "\n ", "\t", "  ")+name+g.pick("=", " = ", "=\n")+"'"+v+"'")
	}
	for _, p := range []string{"", "p", "q", "r", "é"} {
		if g.rnd.IntN(4) == 0 {
			uri := g.pick(uris...)
			if p == "" {
				if g.rnd.IntN(3) == 0 {
					uri = ""
				}
				quote("xmlns", uri)
			} else {
				quote("xmlns:"+p, uri)
			}
			scope[p] = uri
		}
	}
	prefixes := []string{""}
	for _, p := range []string{"p", "q", "r", "é"} {
		if scope[p] != "" {
			prefixes = append(prefixes, p)
		}
	}
	used := map[string]bool{}
	for n := g.rnd.IntN(5); n > 0; n-- {
		p, local := prefixes[g.rnd.IntN(len(prefixes))], g.pick("a", "b", "type", "lang", "Z", "_u", "é-1.x")
		if key := scope[p] + "|" + local; p == "" && !used["|"+local] {
			used["|"+local] = true
			quote(local, g.text(true))
		} else if p != "" && !used[key] {
			used[key] = true
			quote(p+":"+local, g.text(true))
		}
	}
	if g.rnd.IntN(5) == 0 {
		quote("xml:"+g.pick("lang", "space", "base"), g.pick("de", "preserve", "http://x.example/"))
	}
	if id != "" {
		quote("ID", id)
	}
	g.rnd.Shuffle(len(attrs), func(i, j int) { attrs[i], attrs[j] = attrs[j], attrs[i] })
	name := g.pick("e", "Item", "x.y-z", "ö")
	if p := prefixes[g.rnd.IntN(len(prefixes))]; p != "" {
		name = p + ":" + name
	}
	g.b.WriteString("<" + name + strings.Join(attrs, ""))
	if id == "" && g.rnd.IntN(5) == 0 {
		g.b.WriteString(g.pick("/>", " />", "\n/>"))
		return
	}
	g.b.WriteString(g.pick(">", " >", "\n>"))
	if id != "" {
		g.b.WriteString("@SIGNATURE@")
	}
	for n := g.rnd.IntN(6); n > 0; n-- {
		switch k := g.rnd.IntN(10); {
		case k < 3:
			g.b.WriteString(g.text(false))
		case k == 3:
			g.b.WriteString("<![CDATA[" + g.pick("", "<&>", "a\r\nb", "]] >", "é") + "]]>")
		case k == 4:
			g.b.WriteString("<!--" + g.pick("", " c ", "<&>", "a\r\nb - c") + "-->")
		case k == 5:
			g.b.WriteString("<?" + g.pick("pi", "é") + g.pick("", " data", "  a='b' ", "\r\nx") + "?>")
		case depth < 6:
			g.element(depth+1, scope, "")
		}
	}
	g.b.WriteString("</" + name + g.pick("", " ", "\n") + ">")
}

// document gives the nth document; with an ID it has a place for a signature.
func document(n uint64, id string) string {
	g := &generator{rnd: rand.New(rand.NewPCG(n, 7))}
	g.b.WriteString(g.pick("", "<?xml version='1.0'?>",
		"<?xml version=\"1.0\" encoding=\"utf-8\" standalone='yes'?>\r\n"))
	g.b.WriteString(g.pick("", "<!-- before -->\n", "<?p before?>"))
	g.element(0, map[string]string{}, id)
	g.b.WriteString(g.pick("", "\n<!-- behind -->", "\r\n<?p behind ?>\n"))
	return g.b.String()
}

// template is a signature for the xmlsec1 program to fill in.
func template(id, method, prefixes string) string {
	list := ""
	if prefixes != "" {
		list = fmt.Sprintf(`<ec:InclusiveNamespaces xmlns:ec="http://www.w3.org/2001/10/xml-exc-c14n#" PrefixList="%s"/>`,
			prefixes)
	}
	return fmt.Sprintf(`<ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignedInfo>
<ds:CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/><ds:SignatureMethod Algorithm="%s"/>
<ds:Reference URI="#%s"><ds:Transforms><ds:Transform Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/>
<ds:Transform Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#">%s</ds:Transform></ds:Transforms>
<ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><ds:DigestValue/></ds:Reference></ds:SignedInfo>
<ds:SignatureValue/></ds:Signature>`, method, id, list)
}
