package cli

import (
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
)

var metadataFlag = &ucli.StringFlag{Name: "metadata", Usage: "metadata: a file, an address, or - for standard input"}

// sourceFlags are what the other side's values come in by.
func sourceFlags(more ...ucli.Flag) []ucli.Flag {
	return append([]ucli.Flag{metadataFlag,
		&ucli.StringFlag{Name: "from", Usage: "record whose document holds this role too, like provider/wrenmoor-staff"},
		&ucli.StringFlag{Name: "entity-id", Usage: "entity ID, typed by hand"},
		&ucli.StringFlag{Name: "certificate", Usage: "signing certificate: a file in PEM or DER"},
		&ucli.StringFlag{Name: "nameid-format", Usage: "NameID format it works with"},
		&ucli.BoolFlag{Name: "preview", Usage: "show what would be set or changed, and the findings; save nothing"},
	}, more...)
}

// startFlags are those of a new record.
func startFlags(more ...ucli.Flag) []ucli.Flag {
	return append(sourceFlags(titleFlag,
		&ucli.StringFlag{Name: "phase", Usage: "live or paused; live if absent, unless values are missing"},
		&ucli.BoolFlag{Name: "draft", Usage: "keep the record even if values are still missing"},
		&ucli.StringFlag{Name: "trust-key", Usage: "file with the certificate that must have signed the metadata"},
		&ucli.StringFlag{Name: "address-ca", Usage: "file with certificates of authorities that its addresses rest on"},
		&ucli.BoolFlag{Name: "approve-changes", Usage: "changes of keys, addresses or entity ID wait for approval"}), more...)
}

var (
	redirectFlag = &ucli.StringFlag{Name: "sso-redirect", Usage: "SingleSignOnService by HTTP-Redirect, typed by hand"}
	postFlag     = &ucli.StringFlag{Name: "sso-post", Usage: "SingleSignOnService by HTTP-POST, typed by hand"}
	acsFlag      = &ucli.StringFlag{Name: "acs", Usage: "AssertionConsumerService by HTTP-POST, typed by hand"}
)

// typedFlags are the flags for values typed by hand, by field.
var typedFlags = map[string]string{"entityId": "entity-id", "ssoRedirect": "sso-redirect", "ssoPost": "sso-post",
	"acs": "acs", "nameIdFormat": "nameid-format", "link": "address"}

var protocolFlag = &ucli.StringFlag{Name: "protocol",
	Usage: "what it speaks, like link for an application that is only a bookmark; see gate show"}

var addressFlag = &ucli.StringFlag{Name: "address", Usage: "where a link leads"}

// given reads what the other side handed over.
func (e *environment) given(cmd *ucli.Command) (g api.Given, err error) {
	g.Record = cmd.String("from")
	g.Typed = federation.Typed{}
	for field, flag := range typedFlags {
		if value := cmd.String(flag); value != "" {
			g.Typed[field] = value
		}
	}
	if file := cmd.String("certificate"); file != "" {
		octets, _, err := e.readDocument(file)
		if err != nil {
			return g, err
		}
		if g.Typed["certificate"] = string(octets); !utf8.Valid(octets) {
			g.Typed["certificate"] = base64.StdEncoding.EncodeToString(octets)
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

// start reads what a new record begins with.
func (e *environment) start(cmd *ucli.Command) (s api.Start, err error) {
	if s.Given, err = e.given(cmd); err != nil {
		return s, err
	}
	s.Draft, s.ApproveChanges, s.Phase = cmd.Bool("draft"), cmd.Bool("approve-changes"),
		federation.Phase(cmd.String("phase"))
	if p := string(s.Phase); p != "" && !slices.Contains(federation.Phases, p) {
		return s, &usageError{fmt.Sprintf("there is no phase %q", p), "Use " + strings.Join(federation.Phases, " or ") + "."}
	}
	if s.TrustKey, err = e.pemFile(cmd.String("trust-key")); err != nil {
		return s, err
	}
	s.AddressCA, err = e.pemFile(cmd.String("address-ca"))
	return s, err
}

// pemFile reads a certificate from a file, if one is named.
func (e *environment) pemFile(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	octets, _, err := e.readDocument(file)
	if err == nil && !utf8.Valid(octets) {
		octets = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: octets})
	}
	return string(octets), err
}

// readDocument reads what --metadata names: a file, - for standard input, or an
// address that the gate is to fetch.
func (e *environment) readDocument(given string) (document []byte, address string, err error) {
	switch {
	case given == "-":
		document, err = io.ReadAll(io.LimitReader(e.in, 2<<20))
	case strings.HasPrefix(given, "http://"), strings.HasPrefix(given, "https://"):
		return nil, given, nil
	default:
		info, statErr := os.Stat(given)
		switch {
		case statErr != nil:
			return nil, "", &usageError{"the file cannot be read: " + statErr.Error(),
				"Give an existing file, an address beginning with https://, or - for standard input."}
		case info.IsDir():
			return nil, "", &usageError{given + " is a directory", "Give the metadata file in it."}
		case info.Size() > 2<<20:
			return nil, "", &usageError{given + " is larger than 2 MiB",
				"Give the metadata of one entity; take a large one in with innergate aggregate add."}
		}
		document, err = os.ReadFile(given)
	}
	if err == nil && len(document) == 0 {
		document = []byte(" ") // empty is for the gate to say; absent would be something else
	}
	return document, "", err
}

// stream opens what --metadata names, without reading it.
func (e *environment) stream(given string) (document io.ReadCloser, address string, err error) {
	switch {
	case given == "":
		return nil, "", &usageError{"--metadata is missing", "Give a file, an address, or - for standard input."}
	case given == "-":
		return io.NopCloser(e.in), "", nil
	case strings.HasPrefix(given, "http://"), strings.HasPrefix(given, "https://"):
		return nil, given, nil
	}
	f, err := os.Open(given)
	if err != nil {
		return nil, "", &usageError{"the file cannot be read: " + err.Error(),
			"Give an existing file, an address beginning with https://, or - for standard input."}
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
