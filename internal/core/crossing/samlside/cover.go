package samlside

import (
	"strings"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Cover covers values in a message of SAML.
func (*Provider) Cover(message string, by crossing.Cover) (string, bool) { return covered(message, by) }

// Cover covers values in a message of SAML.
func (*Application) Cover(message string, by crossing.Cover) (string, bool) {
	return covered(message, by)
}

// covered covers what stands in elements that name an attribute.
func covered(message string, by crossing.Cover) (string, bool) {
	if !strings.HasPrefix(strings.TrimLeft(message, " \t\r\n\ufeff"), "<") {
		return message, false
	}
	doc, err := xmlsec.Parse([]byte(message), xmlsec.MessageLimits)
	if err != nil {
		return message, false
	}
	var out strings.Builder
	from := 0
	covering(doc.Root, by, func(e *xmlsec.Element, how profile.Detail) {
		start, end := inner(message, e)
		out.WriteString(message[from:start] + by.Text(message[start:end], how))
		from = end
	})
	return out.String() + message[from:], true
}

// covering finds what stands in elements that name an attribute.
func covering(e *xmlsec.Element, by crossing.Cover, cover func(*xmlsec.Element, profile.Detail)) {
	how := profile.DetailFull
	for _, label := range []string{"Name", "FriendlyName"} {
		if name := e.Attr(label); name != "" {
			how = max(how, by.Keeps(name))
		}
	}
	for _, c := range e.Elements("", "") {
		if how != profile.DetailFull {
			cover(c, how)
		} else {
			covering(c, by, cover)
		}
	}
}

// inner is what stands between the tags of an element, in the text it was read from.
func inner(text string, e *xmlsec.Element) (start, end int) {
	all := text[e.Start:e.End]
	quote := byte(0)
	for i := range len(all) {
		switch c := all[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '>' && all[i-1] == '/':
			return int(e.End), int(e.End)
		case c == '>':
			return int(e.Start) + i + 1, int(e.Start) + strings.LastIndex(all, "</")
		}
	}
	return int(e.End), int(e.End)
}
