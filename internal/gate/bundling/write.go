package bundling

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/bundle"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"at":    func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") },
	"zero":  time.Time.IsZero,
	"lines": func(s string) []string { return strings.Split(s, "\n") },
}).Parse(pageText))

// Page is the bundle as a page that opens without a network: it loads nothing, and has no script.
func Page(b bundle.Bundle, digest string, made time.Time) ([]byte, error) {
	var out bytes.Buffer
	err := page.Execute(&out, struct {
		bundle.Bundle
		Digest string
		Made   time.Time
	}{b, digest, made})
	return out.Bytes(), err
}

// Write is the bundle as one file: the document, the page, and each message by itself.
func Write(b bundle.Bundle, digest string, made time.Time) ([]byte, error) {
	document, err := b.JSON()
	if err != nil {
		return nil, err
	}
	shown, err := Page(b, digest, made)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	put := func(name string, octets []byte) error {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: made.UTC()})
		if err == nil {
			_, err = w.Write(octets)
		}
		return err
	}
	if err = put("bundle.json", document); err == nil {
		err = put("bundle.html", shown)
	}
	for _, s := range b.SignIns {
		for i, st := range s.Steps {
			if st.Message == "" || err != nil {
				continue
			}
			err = put(fmt.Sprintf("messages/%s/%02d-%s.%s", plain(s.Reference), i+1, plain(st.Name), ending(st.Message)),
				[]byte(st.Message))
		}
	}
	if err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// plain is a text as a part of a file's name.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-':
			return r
		case r == ' ':
			return '-'
		}
		return -1
	}, s)
}

func ending(message string) string {
	switch {
	case strings.HasPrefix(message, "<"):
		return "xml"
	case strings.HasPrefix(message, "{"):
		return "json"
	}
	return "txt"
}

// File is what a bundle is called as a file.
func File(b bundle.Bundle) string { return "inner-gate-" + plain(b.Kind) + "-" + plain(b.Of) + ".zip" }
