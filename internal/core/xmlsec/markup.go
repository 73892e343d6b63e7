package xmlsec

import (
	"bytes"
	"strconv"
	"unicode/utf8"

	"innergate.example/innergate/internal/core/finding"
)

// text reads character data up to the next markup, reference or line end
// (XML 1.0 §2.4, §2.11, §4.1).
func (r *Reader) text() (*Event, error) {
	if c := r.buf[r.pos]; c == '&' || c == '\r' {
		return r.textSpecial(c)
	}
	i := r.pos
	for ; i < len(r.buf) && class[r.buf[i]]&classStop == 0; i++ {
	}
	plain := i - r.pos // so many octets are legal characters, each of its own
	for ; i < len(r.buf); i++ {
		c := r.buf[i]
		if c == '<' || c == '&' || c == '\r' {
			break
		}
		if c == ']' {
			at := i - r.mark
			r.pos = i
			ok, err := r.need(3)
			if err != nil {
				return nil, err
			}
			r.pos, i = r.mark, r.mark+at
			if ok && r.buf[i+1] == ']' && r.buf[i+2] == '>' {
				return nil, r.malformed("]]> stands in text")
			}
		}
	}
	run := r.buf[r.pos:i]
	if i == len(r.buf) && !r.eof {
		if tail := incompleteTail(run); tail == len(run) {
			if _, err := r.fill(); err != nil {
				return nil, err
			}
			return nil, nil
		} else {
			run = run[:len(run)-tail]
		}
	}
	if plain < len(run) && !legal(run[plain:]) {
		return nil, r.illegal(run)
	}
	if len(r.stack) == 0 {
		if !isSpace(run) {
			return nil, r.malformed("text stands outside the outermost element")
		}
		r.pos += len(run)
		return nil, nil
	}
	return r.event(Text, run, r.pos+len(run)), nil
}

func (r *Reader) illegal(run []byte) error {
	if !utf8.Valid(run) {
		return r.fail(finding.XMLEncoding, "octets are not valid UTF-8")
	}
	return r.malformed("a character that XML does not allow")
}

var newline = []byte{'\n'}

func (r *Reader) textSpecial(c byte) (*Event, error) {
	if c == '\r' {
		if _, err := r.need(2); err != nil {
			return nil, err
		}
		end := r.pos + 1
		if end < len(r.buf) && r.buf[end] == '\n' {
			end++
		}
		if len(r.stack) == 0 {
			r.pos = end
			return nil, nil
		}
		return r.event(Text, newline, end), nil
	}
	if len(r.stack) == 0 {
		return nil, r.malformed("a reference stands outside the outermost element")
	}
	if _, err := r.need(12); err != nil {
		return nil, err
	}
	out, n, err := r.reference(r.arena[:0], r.buf[r.pos:])
	if err != nil {
		return nil, err
	}
	r.arena = out
	return r.event(Text, out, r.pos+n), nil
}

// reference resolves the reference that s begins with: the five predefined
// entities and character references (XML 1.0 §4.1, §4.6).
func (r *Reader) reference(out, s []byte) ([]byte, int, error) {
	end := bytes.IndexByte(s[:min(len(s), 12)], ';')
	if end < 2 {
		return nil, 0, r.malformed("& begins no reference")
	}
	name := s[1:end]
	switch string(name) {
	case "amp":
		return append(out, '&'), end + 1, nil
	case "lt":
		return append(out, '<'), end + 1, nil
	case "gt":
		return append(out, '>'), end + 1, nil
	case "apos":
		return append(out, '\''), end + 1, nil
	case "quot":
		return append(out, '"'), end + 1, nil
	}
	if name[0] != '#' || len(name) < 2 {
		return nil, 0, r.malformed("the entity %q is not defined", name)
	}
	digits, numeral := name[1:], 10
	if digits[0] == 'x' {
		digits, numeral = digits[1:], 16
	}
	n, err := strconv.ParseUint(string(digits), numeral, 32)
	if err != nil || digits[0] == '+' || n > utf8.MaxRune || !isChar(rune(n)) {
		return nil, 0, r.malformed("&%s; is no legal character", name)
	}
	return utf8.AppendRune(out, rune(n)), end + 1, nil
}

// bang reads a comment or a CDATA section and refuses a DOCTYPE.
func (r *Reader) bang() (*Event, error) {
	if _, err := r.need(9); err != nil {
		return nil, err
	}
	rest := r.buf[r.pos:]
	switch {
	case bytes.HasPrefix(rest, []byte("<!--")):
		r.pos += 4
		end, err := r.find("--")
		if err != nil {
			return nil, err
		}
		at := end - r.mark
		r.pos = end
		if ok, err := r.need(3); err != nil {
			return nil, err
		} else if !ok || r.buf[r.mark+at+2] != '>' {
			return nil, r.malformed("-- stands in a comment")
		}
		return r.section(Comment, r.mark+4, r.mark+at, 3)
	case bytes.HasPrefix(rest, []byte("<![CDATA[")):
		if len(r.stack) == 0 {
			return nil, r.malformed("a CDATA section stands outside the outermost element")
		}
		r.pos += 9
		end, err := r.find("]]>")
		if err != nil {
			return nil, err
		}
		ev, err := r.section(Text, r.mark+9, end, 3)
		if err == nil && len(ev.Text) == 0 {
			return nil, nil
		}
		return ev, err
	case bytes.HasPrefix(rest, []byte("<!DOCTYPE")):
		return nil, r.fail(finding.XMLDoctype, "a document type declaration")
	}
	return nil, r.malformed("<! begins neither a comment nor a CDATA section")
}

// section makes an event of buf[from:to] with line ends normalised.
func (r *Reader) section(kind Kind, from, to, closing int) (*Event, error) {
	text := r.buf[from:to]
	if !legal(text) {
		return nil, r.illegal(text)
	}
	if bytes.IndexByte(text, '\r') >= 0 {
		r.arena = normaliseLines(r.arena[:0], text)
		text = r.arena
	}
	return r.event(kind, text, to+closing), nil
}

func normaliseLines(out, s []byte) []byte {
	for i := 0; i < len(s); i++ {
		if s[i] != '\r' {
			out = append(out, s[i])
			continue
		}
		out = append(out, '\n')
		if i+1 < len(s) && s[i+1] == '\n' {
			i++
		}
	}
	return out
}

func (r *Reader) procInst() (*Event, error) {
	r.pos += 2
	end, err := r.find("?>")
	if err != nil {
		return nil, err
	}
	body := r.buf[r.mark+2 : end]
	n := bytes.IndexAny(body, " \t\r\n")
	if n < 0 {
		n = len(body)
	}
	target := body[:n]
	if !isNCName(target) || bytes.EqualFold(target, []byte("xml")) {
		return nil, r.malformed("<?%s is no processing instruction", target)
	}
	name := r.intern(target)
	data := bytes.TrimLeft(body[n:], " \t\r\n")
	ev, err := r.section(ProcInst, end-len(data), end, 2)
	if err != nil {
		return nil, err
	}
	ev.Local = name
	return ev, nil
}

func (r *Reader) intern(s []byte) string {
	if v, ok := r.names[string(s)]; ok {
		return v
	}
	v := string(s)
	if len(r.names) < 4096 {
		r.names[v] = v
	}
	return v
}

// tagEnd gives the index of the > that ends the tag beginning at mark.
func (r *Reader) tagEnd() (int, error) {
	var quote byte
	i := r.pos
	for {
		for ; i < len(r.buf); i++ {
			c := r.buf[i]
			switch {
			case quote != 0:
				rest := r.buf[i:]
				n := bytes.IndexByte(rest, quote)
				if n >= 0 {
					rest = rest[:n]
				}
				if lt := bytes.IndexByte(rest, '<'); lt >= 0 {
					r.pos = i + lt
					return 0, r.malformed("< stands in an attribute value")
				}
				if i += len(rest); n >= 0 {
					quote = 0
				} else {
					i--
				}
			case c == '>':
				return i, nil
			case c == '"' || c == '\'':
				quote = c
			case c == '<' && i > r.mark:
				r.pos = i
				return 0, r.malformed("< stands in a tag")
			}
		}
		at := i - r.mark
		more, err := r.fill()
		if err != nil {
			return 0, err
		}
		if !more {
			return 0, r.malformed("the document ends inside a tag")
		}
		i = r.mark + at
	}
}

func (r *Reader) endTag() (*Event, error) {
	end, err := r.tagEnd()
	if err != nil {
		return nil, err
	}
	name := bytes.TrimRight(r.buf[r.mark+2:end], " \t\r\n")
	if len(r.stack) == 0 {
		return nil, r.malformed("</%s> ends nothing", name)
	}
	if top := r.stack[len(r.stack)-1]; !bytes.Equal(top.qname, name) {
		return nil, r.malformed("</%s> stands where </%s> was expected", name, top.qname)
	}
	r.pos = end + 1
	return r.endElement(), nil
}

func (r *Reader) endElement() *Event {
	top := r.stack[len(r.stack)-1]
	r.stack = r.stack[:len(r.stack)-1]
	r.scope = r.scope[:top.scope]
	r.qnames = r.qnames[:top.nameOff]
	r.ev = Event{Kind: EndElement, Prefix: top.prefix, Local: top.local, Space: top.space,
		Start: r.base + int64(r.mark), End: r.base + int64(r.pos)}
	return &r.ev
}

// qname is a qualified name in its parts.
type qname struct{ prefix, local string }

// splitQName splits a qualified name (Namespaces in XML §4). Names come again
// and again, so they are looked at once.
func (r *Reader) splitQName(q []byte) (prefix, local string, err error) {
	if n, ok := r.split[string(q)]; ok {
		return n.prefix, n.local, nil
	}
	i := bytes.IndexByte(q, ':')
	if i >= 0 && !isNCName(q[:i]) || !isNCName(q[i+1:]) {
		return "", "", r.malformed("%q is no name", q)
	}
	n := qname{prefix: r.intern(q[:max(i, 0)]), local: r.intern(q[i+1:])}
	if len(r.split) < 4096 {
		r.split[string(q)] = n
	}
	return n.prefix, n.local, nil
}

// startTag reads a start-tag or an empty-element tag (XML 1.0 §3.1).
func (r *Reader) startTag() (*Event, error) {
	if len(r.stack) == 0 && r.rooted {
		return nil, r.malformed("a second outermost element")
	}
	if len(r.stack) >= r.limits.Depth {
		return nil, r.fail(finding.XMLTooDeep, "more than %d levels", r.limits.Depth)
	}
	if r.count++; r.limits.Count > 0 && r.count > r.limits.Count {
		return nil, r.fail(finding.XMLTooLarge, "more than %d elements", r.limits.Count)
	}
	end, err := r.tagEnd()
	if err != nil {
		return nil, err
	}
	r.rooted = true
	tag := r.buf[r.mark+1 : end]
	empty := len(tag) > 0 && tag[len(tag)-1] == '/'
	if empty {
		tag = tag[:len(tag)-1]
	}
	n := 0
	for n < len(tag) && class[tag[n]]&classSpace == 0 {
		n++
	}
	qname := tag[:n]
	f := frame{scope: len(r.scope), nameOff: len(r.qnames)}
	if f.prefix, f.local, err = r.splitQName(qname); err != nil {
		return nil, err
	}
	r.qnames = append(r.qnames, qname...)
	f.qname = r.qnames[f.nameOff:len(r.qnames):len(r.qnames)]
	r.attrs, r.ns, r.arena = r.attrs[:0], r.ns[:0], r.arena[:0]
	if err := r.attributes(tag[n:]); err != nil {
		return nil, err
	}
	if r.scope = append(r.scope, r.ns...); len(r.scope) > r.limits.Scope {
		return nil, r.fail(finding.XMLTooDeep, "more than %d namespace declarations in scope", r.limits.Scope)
	}
	var ok bool
	if f.space, ok = r.Lookup(f.prefix); !ok || f.prefix == "xmlns" {
		return nil, r.malformed("the prefix %q is not declared", f.prefix)
	}
	if err := r.resolveAttrs(); err != nil {
		return nil, err
	}
	r.stack = append(r.stack, f)
	r.pos = end + 1
	r.pending = empty
	r.ev = Event{Kind: StartElement, Prefix: f.prefix, Local: f.local, Space: f.space, Attrs: r.attrs, NS: r.ns,
		Start: r.base + int64(r.mark), End: r.base + int64(r.pos)}
	return &r.ev, nil
}

// attributes reads all attributes of a tag, sorting out declarations.
func (r *Reader) attributes(s []byte) error {
	for {
		t := bytes.TrimLeft(s, " \t\r\n")
		if len(t) == 0 {
			return nil
		}
		if len(t) == len(s) {
			return r.malformed("no space before an attribute")
		}
		eq := bytes.IndexByte(t, '=')
		if eq < 0 {
			return r.malformed("an attribute without value")
		}
		name := bytes.TrimRight(t[:eq], " \t\r\n")
		v := bytes.TrimLeft(t[eq+1:], " \t\r\n")
		if len(v) == 0 || v[0] != '"' && v[0] != '\'' {
			return r.malformed("the value of %q is not quoted", name)
		}
		close := bytes.IndexByte(v[1:], v[0])
		if close < 0 {
			return r.malformed("the value of %q does not end", name)
		}
		value, err := r.attrValue(v[1 : 1+close])
		if err != nil {
			return err
		}
		s = v[close+2:]
		if len(r.attrs)+len(r.ns) >= r.limits.Attrs {
			return r.fail(finding.XMLTooLarge, "more than %d attributes on one element", r.limits.Attrs)
		}
		prefix, local, err := r.splitQName(name)
		if err != nil {
			return err
		}
		switch {
		case prefix == "" && local == "xmlns":
			err = r.declare("", value)
		case prefix == "xmlns":
			err = r.declare(local, value)
		default:
			r.attrs = append(r.attrs, Attr{Prefix: prefix, Local: local, Value: value})
		}
		if err != nil {
			return err
		}
	}
}

// attrValue normalises an attribute value (XML 1.0 §3.3.3, type CDATA).
func (r *Reader) attrValue(s []byte) ([]byte, error) {
	if !legal(s) {
		return nil, r.illegal(s)
	}
	if bytes.IndexByte(s, '&') < 0 && bytes.IndexByte(s, '\n') < 0 && bytes.IndexByte(s, '\r') < 0 &&
		bytes.IndexByte(s, '\t') < 0 {
		return s, nil
	}
	from := len(r.arena)
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '\r':
			if i+1 < len(s) && s[i+1] == '\n' {
				i++
			}
			r.arena = append(r.arena, ' ')
		case '\n', '\t':
			r.arena = append(r.arena, ' ')
		case '&':
			out, n, err := r.reference(r.arena, s[i:])
			if err != nil {
				return nil, err
			}
			r.arena = out
			i += n - 1
		default:
			r.arena = append(r.arena, c)
		}
	}
	return r.arena[from:len(r.arena):len(r.arena)], nil
}

// declare takes a namespace declaration (Namespaces in XML §3, §5).
func (r *Reader) declare(prefix string, value []byte) error {
	uri := r.intern(value)
	switch {
	case prefix == "xmlns", uri == NSXMLNS:
		return r.malformed("the namespace of declarations may not be bound")
	case (prefix == "xml") != (uri == NSXML):
		return r.malformed("the prefix xml and its namespace belong together")
	case prefix != "" && uri == "":
		return r.malformed("the prefix %q may not be bound to nothing", prefix)
	}
	for _, d := range r.ns {
		if d.Prefix == prefix {
			return r.malformed("the prefix %q is declared twice", prefix)
		}
	}
	if prefix != "xml" {
		r.ns = append(r.ns, NSDecl{prefix, uri})
	}
	return nil
}

func (r *Reader) resolveAttrs() error {
	for i := range r.attrs {
		a := &r.attrs[i]
		if a.Prefix != "" {
			var ok bool
			if a.Space, ok = r.Lookup(a.Prefix); !ok {
				return r.malformed("the prefix %q is not declared", a.Prefix)
			}
		}
		for _, b := range r.attrs[:i] {
			if a.Local == b.Local && a.Space == b.Space {
				return r.malformed("the attribute %q stands twice", a.Local)
			}
		}
	}
	return nil
}
