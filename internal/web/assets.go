package web

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"path"
	"slices"
	"sync"

	"github.com/gofiber/fiber/v3"
)

// assets are files of this build that are the same for everybody, in gzip (RFC 1952) once somebody asked for them: they
// are few, and never change.
type assets struct {
	files fs.FS
	kept  sync.Map // name to octets
}

// send answers with a file, packed if the browser takes that; false if there is none.
func (p *assets) send(c fiber.Ctx, name string) (bool, error) {
	octets, err := fs.ReadFile(p.files, name)
	if err != nil {
		return false, nil
	}
	c.Type(path.Ext(name))
	c.Vary(fiber.HeaderAcceptEncoding)
	says := c.Get(fiber.HeaderAcceptEncoding) != "" // who says nothing would take all (RFC 9110 §12.5.3), and unpacks nothing
	if !slices.Contains([]string{".js", ".css", ".html", ".svg"}, path.Ext(name)) || !says ||
		c.AcceptsEncodings("gzip") != "gzip" {
		return true, c.Send(octets)
	}
	kept, there := p.kept.Load(name)
	if !there {
		var b bytes.Buffer
		z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression) // the level is valid, and memory takes every write
		_, _ = z.Write(octets)
		_ = z.Close()
		kept, _ = p.kept.LoadOrStore(name, b.Bytes())
	}
	c.Set(fiber.HeaderContentEncoding, "gzip")
	return true, c.Send(kept.([]byte))
}
