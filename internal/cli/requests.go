package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// requests are the commands about admissions that were asked for.
func (e *environment) requests() *ucli.Command {
	number := []string{"NUMBER"}
	return &ucli.Command{Name: "request", Usage: "admissions that were asked for, and wait for an owner",
		Commands: []*ucli.Command{
			{Name: "list", Usage: "list those that wait, the newest first",
				Flags: []ucli.Flag{&ucli.StringFlag{Name: "application", Usage: "to it alone"},
					&ucli.StringFlag{Name: "state", Usage: "waiting, approved, declined, ended or all", Value: "waiting"},
					&ucli.Int64Flag{Name: "after", Usage: "number below which the page begins"},
					&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50}},
				Action: e.action(nil, e.listRequests)},
			{Name: "show", Usage: "show one, with the digest to approve it by", ArgsUsage: "NUMBER",
				Action: e.action(number, e.onRequest(api.ShowRequest))},
			{Name: "approve", Usage: "approve one as it was looked at: it acts at once", ArgsUsage: "NUMBER",
				Description: "An owner approves who did not ask for it; a token counts as who made it.",
				Flags:       []ucli.Flag{&ucli.StringFlag{Name: "digest", Usage: "of what show gave"}},
				Action:      e.action(number, e.approveRequest)},
			{Name: "decline", Usage: "decline one; --remark says why", ArgsUsage: "NUMBER",
				Action: e.action(number, e.onRequest(api.DeclineRequest))},
		}}
}

func (e *environment) listRequests(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	f := api.RequestFilter{Application: cmd.String("application"), State: cmd.String("state"), After: cmd.Int64("after"),
		Limit: cmd.Int("limit")}
	if f.State == "all" {
		f.State = ""
	}
	got, err := client.Call(ctx, c, api.ListRequests, f)
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) {
		var t table
		for _, q := range got.Items {
			t.add("request!", fmt.Sprint(q.Number), "state", e.colour(q.State), "application!", dash(q.Application), "admit!",
				requestWords(q),
				"asked by", cmp.Or(q.Author, "themselves"), "asked", local(q.Asked), "decided by", dash(q.By))
		}
		e.tell(w, t, "Nothing waits.")
	})
}

// requestWords say who would be admitted.
func requestWords(q api.EntryRequest) string {
	var words []string
	for _, p := range q.People {
		words = append(words, fmt.Sprintf("%d %s", p.Number, p.Name))
	}
	for _, g := range q.Groups {
		words = append(words, "group "+g.Name)
	}
	if q.Everyone {
		words = append(words, "everyone")
	}
	if q.AtOnce {
		words = append(words, "admissions act at once")
	}
	out := strings.Join(words, ", ")
	if !q.Until.IsZero() {
		out += " until " + federation.EndText(q.Until)
	}
	return out
}

func requestNumber(text string) (api.Numbered, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return api.Numbered{}, &usageError{fmt.Sprintf("%.50q is no number of a request", text),
			"innergate request list gives the numbers."}
	}
	return api.Numbered{ID: n}, nil
}

func (e *environment) onRequest(o api.Operation[api.Numbered, api.EntryRequest]) func(context.Context, *ucli.Command,
	*client.Client, []string) error {
	return func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		n, err := requestNumber(args[0])
		if err != nil {
			return err
		}
		got, err := client.Call(ctx, c, o, n)
		if err != nil {
			return err
		}
		return e.print(cmd, got, func(w io.Writer) { e.request(w, got) })
	}
}

func (e *environment) approveRequest(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := requestNumber(args[0])
	if err != nil {
		return err
	}
	if cmd.String("digest") == "" {
		return &usageError{"--digest is missing", "innergate request show " + args[0] +
			" shows whom it admits, and gives the digest."}
	}
	got, err := client.Call(ctx, c, api.ApproveRequest, api.Approves{Numbered: n,
		Body: api.Approval{Digest: cmd.String("digest")}})
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) { e.request(w, got) })
}

func (e *environment) request(w io.Writer, q api.EntryRequest) {
	fmt.Fprintf(w, "request %d  %s\n\n", q.Number, e.colour(q.State))
	lines := [][2]string{{"Application", cmp.Or(strings.TrimSpace(q.Title+" ("+q.Application+")"), "-")},
		{"Admit", requestWords(q)},
		{"Asked by", cmp.Or(q.Author, "themselves")}, {"Why", q.Why}, {"Asked", local(q.Asked)}}
	for _, p := range q.People {
		says := p.Called
		if p.Disabled {
			says += ", disabled"
		}
		if p.Gone {
			says = "removed"
		}
		lines = append(lines, [2]string{fmt.Sprintf("Person %d", p.Number), says})
	}
	if q.State == "waiting" {
		lines = append(lines, [2]string{"Ends", local(q.Ends)}, [2]string{"Approve with",
			fmt.Sprintf("innergate request approve %d --digest %s", q.Number, q.Digest)})
	} else {
		lines = append(lines, [2]string{"Decided by", q.By}, [2]string{"Decided", local(q.Decided)},
			[2]string{"Remark", q.Remark})
	}
	for _, l := range lines {
		if l[1] != "" {
			fmt.Fprintf(w, "%-14s %s\n", l[0], l[1])
		}
	}
}
