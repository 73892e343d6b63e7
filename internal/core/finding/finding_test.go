package finding_test

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
)

var update = flag.Bool("update", false, "write docs/findings.md")

// document makes docs/findings.md from the catalogue.
func document() string {
	var b strings.Builder
	b.WriteString("# Findings\n\nEverything Inner Gate can diagnose. This page is made from the catalogue (`make docs`).\n\n")
	b.WriteString("The side is the party that has to act; *sender* stands for whoever sent the document in question.\n\n")
	b.WriteString("| code | severity | side | what is wrong | what to do | when |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, e := range finding.Catalogue() {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s | %s |\n", e.Code, e.Severity, e.Side, e.Title, e.Remedy, e.When)
	}
	return b.String()
}

func TestCatalogueIsDocumented(t *testing.T) {
	const path = "../../../docs/findings.md"
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(document()), 0o644))
	}
	written, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, document(), string(written), "docs/findings.md is current; make docs writes it")
}

func TestCatalogueReadsWell(t *testing.T) {
	for _, e := range finding.Catalogue() {
		require.Regexp(t, `^[a-z0-9]+(-[a-z0-9]+)*$`, string(e.Code))
		require.NotRegexp(t, `\.$`, e.Title, "%s: the title is a clause", e.Code)
		require.Regexp(t, `\.$`, e.Remedy, "%s: the remedy is a sentence", e.Code)
		require.Regexp(t, `\.$`, e.When, "%s: when is a sentence", e.Code)
	}
}

// Every finding of the catalogue must be given somewhere, and looked for by some
// test.
func TestEveryFindingIsGivenAndTested(t *testing.T) {
	source, err := os.ReadFile("catalogue.go")
	require.NoError(t, err)
	for _, e := range finding.Catalogue() {
		name := ""
		for line := range strings.SplitSeq(string(source), "\n") {
			if strings.Contains(line, `= "`+string(e.Code)+`"`) {
				name = strings.Fields(line)[0]
			}
		}
		require.NotEmpty(t, name)
		given, _ := exec.Command("grep", "-rlE", `finding\.`+name+`\b`, "..", "../../gate", "--include=*.go",
			"--exclude=*_test.go").Output()
		require.NotEmpty(t, string(given), "%s is given nowhere", e.Code)
		tested, _ := exec.Command("grep", "-rlE", `finding\.`+name+`\b|"`+string(e.Code)+`"|\b`+string(e.Code)+`\b`, "../..",
			"../../../e2e", "--include=*_test.go").Output()
		require.NotEmpty(t, string(tested), "%s is looked for by no test", e.Code)
	}
}

func TestFindingTellsCauseAndWayOut(t *testing.T) {
	f := finding.New(finding.IssuerMissing, finding.Compare("Issuer", "https://a.example", "")).From(finding.Provider)
	require.Equal(t, finding.Provider, f.Side)
	require.Equal(t, "The message does not say who issued it (Issuer: expected “https://a.example”, found nothing). Have the provider set Issuer to its entity ID.", f.Error())
	wrapped := fmt.Errorf("while reading: %w", f)
	require.True(t, finding.Is(wrapped, finding.IssuerMissing))
	require.False(t, finding.Is(wrapped, finding.IssuerOther))
	require.Panics(t, func() { finding.New("no-such-code") })
}

func TestMarksStayWhileTimePasses(t *testing.T) {
	f := func(left, print string) string {
		return finding.New(finding.CertificateExpiring, finding.Passing("Days left", left),
			finding.Fact("SHA-256", print)).Mark()
	}
	require.Equal(t, f("9", "AA"), f("8", "AA"))
	require.NotEqual(t, f("9", "AA"), f("9", "AB"))
}
