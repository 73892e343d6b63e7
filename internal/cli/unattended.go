package cli

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/rehearsal"
)

// unattendedFlags say how a rehearsal runs by itself.
func unattendedFlags() []ucli.Flag {
	return []ucli.Flag{
		&ucli.StringFlag{Name: "username", Usage: "of a test account at the provider, with which it runs by itself"},
		&ucli.StringFlag{Name: "password-file", Usage: "file with that account's password; it is kept sealed, and never shown"},
		&ucli.StringFlag{Name: "every", Usage: "run it by itself so often: 15m, 6h, 24h"},
		&ucli.BoolFlag{Name: "after-changes", Usage: "run it by itself after changes of what it goes by"},
		&ucli.StringSliceFlag{Name: "host", Usage: "a further host of the sign-in's pages; repeat it"},
		&ucli.StringFlag{Name: "opens", Usage: "of a start at the provider or the application: the address that the tester would open"},
		&ucli.StringSliceFlag{Name: "mail", Usage: "an address that is mailed when it begins to fail, or passes again; repeat it"}}
}

// unattendedSettings are what these flags say.
func unattendedSettings(cmd *ucli.Command, settings map[string]any) {
	for flag, name := range map[string]string{"username": "username", "every": "every", "opens": "opens"} {
		if v := cmd.String(flag); v != "" {
			settings[name] = v
		}
	}
	if cmd.Bool("after-changes") {
		settings["afterChanges"] = true
	}
	for flag, name := range map[string]string{"host": "hosts", "mail": "mails"} {
		if list := cmd.StringSlice(flag); len(list) > 0 {
			settings[name] = strings.Join(list, " ")
		}
	}
}

// accountCommands are about the test accounts of rehearsals.
func (e *environment) accountCommands() []*ucli.Command {
	return []*ucli.Command{
		{Name: "password", Usage: "give, or forget, the password of a rehearsal's test account", ArgsUsage: "NAME",
			Metadata:    takes("rehearsal", ""),
			Description: "It is kept sealed and never shown, and goes to forms at the hosts that the provider has now, over https. All rehearsals with the same account share it.",
			Flags: []ucli.Flag{&ucli.StringFlag{Name: "password-file",
				Usage: "file with the password, - for the standard input"},
				&ucli.BoolFlag{Name: "forget", Usage: "forget it: rehearsals with this account run by their links then"}},
			Action: e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
				args []string) error {
				if cmd.Bool("forget") {
					if err := client.Do(ctx, c, api.ForgetPassword, api.Name(args[0])); err != nil {
						return err
					}
					e.said("the password is forgotten; run %s by its link: innergate rehearse %s", args[0], args[0])
					return nil
				}
				if cmd.String("password-file") == "" {
					return &usageError{"--password-file is missing", "Give a file with the password and nothing else."}
				}
				octets, err := e.readFile("--password-file", cmd.String("password-file"))
				if err != nil {
					return err
				}
				a, err := client.Call(ctx, c, api.GivePassword, testPassword(args[0], string(octets)))
				return e.accountShown(cmd, a, err)
			})},
		{Name: "resume", Usage: "have a test account tried again that the provider did not take, with the password on record",
			ArgsUsage: "NAME", Metadata: takes("rehearsal", ""),
			Action: e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
				args []string) error {
				a, err := client.Call(ctx, c, api.ResumeAccount, api.Name(args[0]))
				return e.accountShown(cmd, a, err)
			})},
	}
}

// accountPassword is that of a new rehearsal's test account, "" for none.
func (e *environment) accountPassword(cmd *ucli.Command) (string, error) {
	path := cmd.String("password-file")
	if path == "" {
		return "", nil
	}
	if cmd.String("username") == "" {
		return "", &usageError{"--password-file is given, and no --username", "Say whose password it is."}
	}
	octets, err := e.readFile("--password-file", path)
	return string(octets), err
}

// testPassword is the password of a rehearsal's test account, without the end of the line that it stood on.
func testPassword(name, password string) api.TestPassword {
	in := api.TestPassword{Named: api.Name(name)}
	in.Body.Password = strings.TrimRight(password, "\r\n")
	return in
}

func (e *environment) accountShown(cmd *ucli.Command, a api.TestAccount, err error) error {
	if err != nil {
		return err
	}
	return e.print(cmd, a, func(w io.Writer) {
		fields(w, [][2]string{{"account", a.Username}, {"provider", a.Provider}, {"goes to", strings.Join(a.Hosts, " ")},
			{"given", local(a.Given) + " by " + a.By}})
	})
}

// setCase is what one rehearsal of a set came to.
type setCase struct {
	Rehearsal string          `json:"rehearsal"`
	Title     string          `json:"title"`
	App       string          `json:"application"`
	Verdict   rehearsal.State `json:"verdict,omitempty"`
	Skipped   string          `json:"skipped,omitempty"`
	Failure   string          `json:"failure,omitempty"` // why it could not run
	Seconds   float64         `json:"seconds"`
	Run       *api.Run        `json:"run,omitempty"`
}

// passed says that nothing speaks against it.
func (s setCase) passed() bool { return s.Skipped != "" || s.Verdict == rehearsal.Passed }

// says is the point of it in a line.
func (s setCase) says() string {
	switch {
	case s.Skipped+s.Failure != "":
		return s.Skipped + s.Failure
	case len(s.Run.Verdict.Findings) > 0 && s.Verdict != rehearsal.Passed:
		return s.Run.Verdict.Findings[0].Title + " (" + string(s.Run.Verdict.Findings[0].Code) + ")"
	}
	return runSays(*s.Run)
}

// together is how many rehearsals of a set are under way at once.
const together = 4

// rehearseAll runs all rehearsals that can run by themselves.
func (e *environment) rehearseAll(ctx context.Context, cmd *ucli.Command, c *client.Client) error {
	switch format := cmd.String("output"); format {
	case "table", "json", "yaml", "junit":
	default:
		return &usageError{fmt.Sprintf("there is no output %q", format), "Use table, json, yaml or junit."}
	}
	list, err := client.Call(ctx, c, api.ListRehearsals, api.RehearsalFilter{Application: cmd.String("app")})
	if err == nil && cmd.String("app") != "" {
		_, err = client.Call(ctx, c, api.RecordsOf("application").Show, api.Name(cmd.String("app")))
	}
	if err != nil {
		return err
	}
	out := make([]setCase, len(list.Items))
	places, working := make(chan struct{}, together), sync.WaitGroup{}
	for i, r := range list.Items {
		places <- struct{}{}
		working.Go(func() {
			out[i] = e.oneOfSet(ctx, cmd, c, r)
			<-places
		})
	}
	working.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if cmd.String("output") == "junit" {
		err = e.junit(out)
	} else {
		err = e.print(cmd, map[string]any{"rehearsals": out, "passed": !slices.ContainsFunc(out, func(s setCase) bool {
			return !s.passed()
		})}, func(w io.Writer) { e.casesShown(w, out) })
	}
	if err == nil && slices.ContainsFunc(out, func(s setCase) bool { return !s.passed() }) {
		err = errFound
	}
	return err
}

// oneOfSet runs one rehearsal.
func (e *environment) oneOfSet(ctx context.Context, cmd *ucli.Command, c *client.Client, r api.Rehearsal) setCase {
	out := setCase{Rehearsal: r.Name, Title: r.Title, App: r.Application}
	if r.Username == "" || r.Account == nil {
		out.Skipped = "it has no test account, and runs by its link alone"
		return out
	}
	began := time.Now()
	run, err := client.Call(ctx, c, api.DriveRun, api.Name(r.Name))
	if err == nil {
		run, err = e.waited(ctx, c, run, began.Add(cmd.Duration("wait")), nil)
	}
	if out.Seconds = time.Since(began).Seconds(); err != nil {
		out.Failure = strings.ReplaceAll(err.Error(), "\n", " ")
		return out
	}
	out.Verdict, out.Run = run.Verdict.State, &run
	return out
}

func (e *environment) casesShown(w io.Writer, out []setCase) {
	var t table
	for _, s := range out {
		verdict := string(s.Verdict)
		if s.Skipped != "" {
			verdict = "skipped"
		} else if s.Failure != "" {
			verdict = "failed"
		}
		t.add("verdict", verdict, "rehearsal!", s.Rehearsal, "application", s.App, "seconds", fmt.Sprintf("%.1f", s.Seconds),
			"what!", dash(s.says()))
	}
	e.tell(w, t, "No rehearsals. Save one with innergate rehearsal add NAME --app APP --username U --password-file F")
}

// junit prints a set in the form that build servers read.
func (e *environment) junit(out []setCase) error {
	type message struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	type testcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Time    string   `xml:"time,attr"`
		Failure *message `xml:"failure,omitempty"`
		Error   *message `xml:"error,omitempty"`
		Skipped *message `xml:"skipped,omitempty"`
	}
	suite := struct {
		XMLName  xml.Name   `xml:"testsuite"`
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Errors   int        `xml:"errors,attr"`
		Skipped  int        `xml:"skipped,attr"`
		Time     string     `xml:"time,attr"`
		Cases    []testcase `xml:"testcase"`
	}{Name: "rehearsals", Tests: len(out)}
	total := 0.0
	for _, s := range out {
		one := testcase{Name: s.Rehearsal, Class: s.App, Time: fmt.Sprintf("%.3f", s.Seconds)}
		total += s.Seconds
		switch {
		case s.Skipped != "":
			one.Skipped, suite.Skipped = &message{Message: s.Skipped}, suite.Skipped+1
		case s.Failure != "":
			one.Error, suite.Errors = &message{Message: s.Failure}, suite.Errors+1
		case s.Verdict != rehearsal.Passed:
			var text strings.Builder
			e.runShown(&shown{w: &text}, *s.Run)
			one.Failure, suite.Failures = &message{s.says(), text.String()}, suite.Failures+1
		}
		suite.Cases = append(suite.Cases, one)
	}
	suite.Time = fmt.Sprintf("%.3f", total)
	octets, err := xml.MarshalIndent(struct {
		XMLName xml.Name `xml:"testsuites"`
		Suite   any
	}{Suite: suite}, "", "  ")
	if err == nil {
		_, err = fmt.Fprintf(e.out, "%s%s\n", xml.Header, octets)
	}
	return err
}
