package cli

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/core/federation"
)

var metadataFlag = &ucli.StringFlag{Name: "metadata", Usage: "metadata: a file, an address, or - for standard input"}

// option is how a value that can be typed is given here: its name with hyphens, unless it says otherwise.
func option(f federation.Setting) string {
	if f.Option != "" {
		return f.Option
	}
	return capital.ReplaceAllStringFunc(f.Name, func(c string) string { return "-" + strings.ToLower(c) })
}

var capital = regexp.MustCompile("[A-Z]")

// fromFile says that it is given in a file.
func fromFile(f federation.Setting) bool {
	return f.Type == federation.Certificate || f.Type == federation.Secret || f.Type == federation.PublicKeys
}

// sourceFlags are what the other side's values come in by.
func (k kindOf) sourceFlags() []ucli.Flag {
	out := []ucli.Flag{metadataFlag,
		&ucli.StringFlag{Name: "from", Usage: "record whose document holds this role too, like provider/wrenmoor-staff"},
		&ucli.BoolFlag{Name: "preview", Usage: "show what would be set or changed, and the findings; save nothing"}}
	for _, f := range app.Fields(k.kind, "") {
		if f.Type == federation.List {
			out = append(out, &ucli.StringSliceFlag{Name: option(f), Usage: f.Text})
			continue
		}
		out = append(out, &ucli.StringFlag{Name: option(f), Usage: f.Text})
	}
	return out
}

// given reads what the other side handed over.
func (e *environment) given(cmd *ucli.Command, k kindOf) (g api.Given, err error) {
	g.Record = cmd.String("from")
	g.Typed = federation.Typed{}
	for _, f := range app.Fields(k.kind, "") {
		field, flag := f.Name, option(f)
		value := cmd.String(flag)
		if f.Type == federation.List {
			value = strings.Join(cmd.StringSlice(flag), " ")
		}
		if value == "" {
			continue
		}
		if field == "token" && strings.HasPrefix(value, "igt_") {
			return g, &usageError{"--token is an API token here, not an address",
				"Here it is the provider's token endpoint; give the API token as INNERGATE_TOKEN, or before the command: innergate --token TOKEN provider …"}
		}
		if g.Typed[field] = value; !fromFile(f) {
			continue
		}
		octets, err := e.readFile("--"+flag, value)
		if err != nil {
			return g, err
		}
		if g.Typed[field] = string(octets); !utf8.Valid(octets) {
			g.Typed[field] = base64.StdEncoding.EncodeToString(octets)
		}
	}
	metadata := cmd.String("metadata")
	if metadata == "" {
		if g.Record == "" && g.Typed.Empty() && !cmd.Bool("draft") {
			return g, &usageError{"--metadata is missing",
				"Give a file, an address, or - for standard input; or type values by hand, like --entity-id."}
		}
		return g, nil
	}
	octets, address, err := e.readDocument(metadata)
	if g.Address = address; err != nil || address != "" {
		return g, err
	}
	if utf8.Valid(octets) {
		g.Metadata = string(octets)
	} else {
		g.MetadataBase64 = base64.StdEncoding.EncodeToString(octets)
	}
	return g, nil
}

// ofFile has a refusal of what was in a file name the file.
func (e *environment) ofFile(cmd *ucli.Command, err error) error {
	var p *api.Problem
	file := cmd.String("metadata")
	if !errors.As(err, &p) || len(p.Errors) == 0 || p.Errors[0].Field != "metadata" || file == "" || file == "-" {
		return err
	}
	q := *p
	q.Errors = []api.FieldProblem{{Field: file, Message: p.Errors[0].Message}}
	return &q
}

// largestFile is how much is sent in one call, in octets.
const largestFile = 2 << 20

// readDocument reads what --metadata names: a file, - for standard input, or an
// address that the gate is to fetch.
func (e *environment) readDocument(given string) (document []byte, address string, err error) {
	if isAddress(given) {
		return nil, given, nil
	}
	document, err = e.readFile("--metadata", given)
	return document, "", err
}

func isAddress(given string) bool {
	return strings.HasPrefix(given, "http://") || strings.HasPrefix(given, "https://")
}

// readFile reads a file, or standard input for -. what is the option or argument
// that named it.
func (e *environment) readFile(what, given string) (octets []byte, err error) {
	if given == "-" {
		octets, err = io.ReadAll(io.LimitReader(e.in, largestFile+1))
	} else {
		info, statErr := os.Stat(given)
		switch {
		case statErr != nil:
			return nil, unreadable(what, given, statErr)
		case info.IsDir():
			return nil, &usageError{what + ": " + given + " is a directory", "Give the file in it."}
		case info.Size() > largestFile:
			return nil, &usageError{fmt.Sprintf("%s: %s has %.1f MB; what is sent in a call may have %.1f MB", what, given,
				float64(info.Size())/1e6, largestFile/1e6),
				"If it is the metadata of a federation, take it in with innergate aggregate add; else give the file of one entity."}
		}
		octets, err = os.ReadFile(given)
	}
	if err == nil && len(octets) == 0 {
		octets = []byte(" ") // empty is for the gate to say; absent would be something else
	}
	return octets, err
}

// unreadable says why a file cannot be read, and what can be given.
func unreadable(what, given string, err error) error {
	do := "Give a file that can be read, or - for standard input."
	if what == "--metadata" {
		do = "Give a file that can be read, an address beginning with https://, or - for standard input."
	} else if isAddress(given) {
		do = "Addresses are fetched for --metadata only; " + strings.ToLower(do[:1]) + do[1:]
	}
	if cause := (*fs.PathError)(nil); errors.As(err, &cause) {
		err = cause.Err
	}
	return &usageError{fmt.Sprintf("%s: %s cannot be read: %v", what, given, err), do}
}

// stream opens what --metadata names, without reading it.
func (e *environment) stream(given string) (document io.ReadCloser, address string, err error) {
	switch {
	case given == "":
		return nil, "", &usageError{"--metadata is missing", "Give a file, an address, or - for standard input."}
	case given == "-":
		return io.NopCloser(e.in), "", nil
	case isAddress(given):
		return nil, given, nil
	}
	f, err := os.Open(given)
	if err != nil {
		return nil, "", unreadable("--metadata", given, err)
	}
	info, err := f.Stat()
	if err != nil || info.IsDir() {
		return nil, "", &usageError{given + " is a directory", "Give the document in it."}
	}
	if !terminal(e.err) {
		return f, "", nil
	}
	return &sending{Closer: f, file: f, total: info.Size(), began: time.Now(), out: e.err}, "", nil
}

// sending is a file on its way to the gate, which tells how far it is.
type sending struct {
	io.Closer
	file              io.Reader
	sent, told, total int64
	began             time.Time
	out               io.Writer
}

// Read tells of every megabyte or so.
func (s *sending) Read(b []byte) (int, error) {
	n, err := s.file.Read(b)
	if s.sent += int64(n); s.sent-s.told > 1<<20 || err != nil {
		s.told = s.sent
		rate := float64(s.sent) / max(time.Since(s.began).Seconds(), 0.001)
		fmt.Fprintf(s.out, "\r\x1b[Ksending  %.1f MB of %.1f MB, %.0f s left", float64(s.sent)/1e6, float64(s.total)/1e6,
			float64(s.total-s.sent)/max(rate, 1))
	}
	if err != nil {
		fmt.Fprint(s.out, "\r\x1b[K")
	}
	return n, err
}
