package e2e

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/cli"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
	"innergate.example/innergate/internal/web"
)

// shifts are a kind of objects that only this test knows.
var shifts = &federation.Description{Kind: "shift", Settings: []federation.Setting{
	{Name: "title", Label: "Title", Type: federation.OneLine, Group: "About it", Most: 100, Text: "What people read"},
	{Name: "crew", Label: "Crew", Type: federation.Named, Refers: federation.KindGroup, Group: "People", Most: 63,
		Text: "Group that works in it"},
	{Name: "lines", Label: "Lines", Type: federation.Values, Group: "People", Most: 40, Text: "Lines that it runs on"},
	{Name: "night", Label: "At night", Type: federation.Switch, Group: "People"},
	{Name: "pay", Label: "Pay", Type: federation.OneOf, Choices: []string{"", "double"},
		Words: map[string]string{"": "as always"}, Group: "People"},
}, Check: func(_ *federation.Snapshot, p *federation.Plain) error {
	if p.Said["night"] == true && p.Said["pay"] != "double" {
		return &federation.SettingError{Field: "pay", Err: errors.New("whoever works at night is paid double; say double")}
	}
	return nil
}}

// kindGate is a gate that knows shifts, over a data directory.
func kindGate(t *testing.T, dir, address string) (base string, stop func(), token func() string) {
	ctx, log := context.Background(), slog.New(slog.DiscardHandler)
	ln, err := net.Listen("tcp", address)
	require.NoError(t, err)
	base = "http://" + ln.Addr().String()
	st, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "key"), store.TraceLimits{Keep: 100}, log)
	require.NoError(t, err)
	g, err := gate.New(ctx, gate.Options{Base: base, Store: st, Log: log, Skew: time.Minute, Protocols: app.Protocols(),
		Kinds: []*federation.Description{shifts}})
	require.NoError(t, err)
	served := web.New(web.Options{Gate: g, Log: log, Version: "test", Protocols: app.Protocols(),
		Endpoints: app.Endpoints()})
	go func() { _ = served.Listener(ln, fiber.ListenConfig{DisableStartupMessage: true}) }()
	by := change.By{Who: "test"}
	if owned, err := g.Operators.HasOwner(ctx); err == nil && !owned {
		require.NoError(t, g.Operators.AddOwner(ctx, by, "signal-box", "wrenmoor-demo-owner"))
	}
	return base, func() { _ = served.Shutdown(); g.Close(); _ = st.Close() }, func() string {
		_, secret, err := g.Operators.AddToken(ctx, by, "test", time.Time{})
		require.NoError(t, err)
		return secret
	}
}

// A kind of objects costs its description: adding, changing, history, undoing, restoring, preview,
// API, tables of the command line and forms of the console come from it.
func TestAKindIsItsDescription(t *testing.T) {
	dir := t.TempDir()
	base, stop, token := kindGate(t, dir, "127.0.0.1:0")
	defer func() { stop() }()
	secret := token()
	run := func(args ...string) (string, int) {
		var out bytes.Buffer
		code := cli.Run(context.Background(), append([]string{"innergate", "--url", base, "--token", secret}, args...),
			strings.NewReader(""), &out, &out)
		return out.String(), code
	}
	ok := func(args string, want ...string) string {
		t.Helper()
		out, code := run(strings.Split(args, " ")...)
		require.Zero(t, code, out)
		for _, w := range want {
			require.Contains(t, out, w, args)
		}
		return out
	}
	refused := func(args string, want ...string) {
		t.Helper()
		out, code := run(strings.Split(args, " ")...)
		require.NotZero(t, code, out)
		for _, w := range want {
			require.Contains(t, out, w, args)
		}
	}
	ok("object kinds", "shift", "by object put")
	ok("object kinds shift", "Lines that it runs on", "values", "group")
	ok("object schema shift", `"description": "Lines that it runs on"`, `"additionalProperties": false`)
	ok("object list shift", "None.")
	refused("object list shft", `there is no kind "shft"`)
	refused("object put shift/early title=Early crew=drivers", "crew", `there is no group "drivers"`)
	ok("object put group/drivers title=Drivers")
	refused("object put shift/early title=", "title", "empty")
	refused("object put shift/early title=Early craw=drivers", "Did you mean crew?")
	refused("object put shift/early title=Early night=true", "pay", "paid double")
	refused("object put shift/Early title=Early", "early")
	refused("object put shift/early title=Early crew=driver", `did you mean "drivers"?`)
	ok("object put shift/early title=Early crew=drivers", "shift     early")
	ok("object put shift/early crew=drivers lines=north|south", "north, south", "revision  2")
	ok("object put shift/early lines=north --dry-run", "before  north, south")
	ok("object show shift/early", "north, south")
	ok("object show group/drivers", "named by", "shift/early (crew)")
	refused("object remove group/drivers", "is named by shift/early (crew)")
	refused("group remove drivers", "is named by shift/early (crew)")
	ok("object list shift --search south", "early")
	list := ok("history list --kind shift", "added", "changed")
	ids := regexp.MustCompile(`(?m)^(\d+) `).FindAllStringSubmatch(list, -1)
	ok("history show "+ids[0][1], "north, south")
	ok("history undo " + ids[0][1])
	ok("object show shift/early", "revision  3")
	ok("history restore "+ids[0][1], "shift")
	ok("object show shift/early", "north, south", "revision  4")

	// It lasts, and what a later build does not know is not passed over.
	stop()
	base, stop, _ = kindGate(t, dir, strings.TrimPrefix(base, "http://"))
	ok("object show shift/early", "north, south", "revision  4")

	c := startChromium(t)
	c.open(base + "/console/")
	c.fill("input[name=username]", "signal-box")
	c.fill("input[name=password]", "wrenmoor-demo-owner")
	c.press("Sign in")
	c.see("Connections")
	c.open(base + "/console/keep/objects/shift")
	c.see("Early")
	c.press("Make one")
	c.see("New shift")
	c.fill("input[name=name]", "late")
	c.fill("input[name=title]", "Late")
	c.choose("Crew", "Drivers")
	c.fill("textarea[name=lines]", "coast")
	c.press("At night")
	c.see("What will change")
	c.press("Save")
	c.see("whoever works at night is paid double")
	c.choose("Pay", "double")
	c.shot("shift")
	c.press("Save")
	c.until("!document.body.innerText.includes('What will change')")
	c.press("late")
	c.see("coast")
	c.see("Nothing names it.")
	c.shot("objects")
	ok("object show shift/late", "coast", "double")
}
