package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// heard is what the stand-in recipient was told.
func (d *demo) heard(t *testing.T) (out struct {
	Tokens, Gaps int
	Wrong        string
	Changes      []struct {
		Number          int64
		About           struct{ Format, ID string } `json:"sub_id"`
		Via, State, Who string
		Values          []string
	}
}) {
	res, err := http.Get(d.Recipient + "heard")
	require.NoError(t, err)
	defer res.Body.Close()
	require.NoError(t, json.NewDecoder(res.Body).Decode(&out))
	return out
}

// One thing is done to several people, after it was told what that comes to; it is told of, to whoever asks and to
// recipients, by whom and of what, and never what it is.
func TestManyPeople(t *testing.T) {
	d := ownDemo(t)
	list := filepath.Join(t.TempDir(), "list.csv")
	require.NoError(t, os.WriteFile(list,
		[]byte("emails;displayName\nada.fenwick@wrenmoor.example;x\nbram.oduya@wrenmoor.example;y\n"), 0o600))
	d.atPortal(t, "ada.fenwick")
	for _, c := range []struct {
		rule string
		args []string
		code int
		want string
	}{
		{"looked at", []string{"person", "disable", "1", "2", "3", "--dry-run"}, 0,
			"3 people would be disabled; 1 session and"},
		{"whom it shuts out", []string{"person", "disable", "1", "2", "--dry-run"}, 0,
			"refused at crew-roster: Ada Fenwick, Bram Oduya"},
		{"how it is taken back", []string{"person", "disable", "1", "2", "--dry-run"}, 0,
			"to take it back: innergate person enable 1 2"},
		{"not unasked", []string{"person", "disable", "1", "2"}, 2, "Add --yes"},
		{"in two ways", []string{"person", "disable", "1", "--search", "ada"}, 2, "in several ways"},
		{"a search that finds nobody", []string{"person", "disable", "--search", "nobodyhere"}, 1, "nobody is found"},
		{"a number that nobody has", []string{"person", "remove", "1", "999", "--dry-run"}, 1, "999"},
		{"a group that there is not", []string{"person", "disable", "--group", "driver"}, 1, `did you mean "drivers"?`},
		{"a list of somebody who is not known", []string{"person", "enable", "--list", "demo.csv"}, 2,
			"FILE cannot be read"},
		{"out of a group in which one is", []string{"person", "set", "1", "2", "--leave", "group/first-aiders", "--dry-run"},
			0, "1 person would be changed; nothing becomes of 1 more"},
		{"one whom a rule names", []string{"object", "put", "rule/named", "title=Named", "people=5", "then=deny",
			"application=crew-roster", "--yes"}, 0, ""},
		{"is not removed", []string{"person", "remove", "4", "5", "--yes"}, 1, "access rules name the person 5"},
		{"disabled", []string{"person", "disable", "1", "2", "3", "--yes"}, 0, "disabled 3 people; 1 session ended"},
		{"enabled by a list", []string{"person", "enable", "--list", list, "--by", "emails", "--yes"}, 0,
			"enabled 2 people"},
		{"back for those alone of whom anything becomes", []string{"person", "disable", "2", "3", "--dry-run"}, 0,
			"to take it back: innergate person enable 2\n"},
		{"changed", []string{"person", "set", "1", "2", "title=Examiner", "--join", "group/controllers", "--yes"}, 0,
			"changed 2 people"},
		{"what was done", []string{"person", "events", "--person", "1"}, 0, "values of title; joined group/controllers"},
		{"since a time", []string{"person", "events", "--since", "1h", "--limit", "1"}, 0, "--after 1"},
		{"an event to come", []string{"person", "events", "--after", "9999"}, 1, "there is no event 9999"},
		{"who is told", []string{"recipient", "list"}, 0, "payroll"},
		{"an address that is none", []string{"recipient", "put", "hr", "title=HR", "address=hr.example"}, 1,
			"is no address"},
		{"without a title", []string{"recipient", "put", "hr", "address=https://hr.example/"}, 1, "the title is empty"},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		require.Contains(t, out+stderr, c.want, c.rule)
	}
	require.Eventually(t, func() bool { return len(d.heard(t).Changes) >= 7 }, 10*time.Second, 200*time.Millisecond)
	got := d.heard(t)
	last := got.Changes[len(got.Changes)-1]
	require.Equal(t, []any{"2", "opaque", "hand", []string{"title"}, ""}, []any{last.About.ID, last.About.Format,
		last.Via, last.Values, got.Wrong})
	res, err := http.Get(d.Recipient + "heard")
	require.NoError(t, err)
	octets, err := io.ReadAll(res.Body)
	require.NoError(t, res.Body.Close())
	require.NoError(t, err)
	require.NotRegexp(t, `Examiner|Fenwick|@wrenmoor`, string(octets), "no value is told")

	_, err = http.PostForm(d.Recipient+"fault", url.Values{"fault": {"refuse"}})
	require.NoError(t, err)
	d.runs(t)(0, "", "person", "set", "4", "nickName=Dovi", "--yes")
	require.Eventually(t, func() bool {
		out, _, _ := d.cli(t, "", "recipient", "list")
		return strings.Contains(out, "failed 1 time: it answered 400")
	}, 10*time.Second, 300*time.Millisecond, "what it did not acknowledge waits")
	require.Len(t, d.heard(t).Changes, len(got.Changes))
	d.manyInConsole(t)
}

// manyInConsole does it in the console, which shows what would be before.
func (d *demo) manyInConsole(t *testing.T) {
	c := startChromium(t)
	script := axe(t)
	c.signInToConsole(d)
	c.open(d.Console + "admit/people")
	c.see("Ada Fenwick")
	for _, name := range []string{"Farid Hale", "Gwen Tarrow"} {
		c.until(fmt.Sprintf(`(() => { const r = [...document.querySelectorAll('.el-table__row')].find((r) => r.innerText.includes(%q)); r?.querySelector('.el-checkbox').click(); return !!r })()`, name))
	}
	c.see("2 people chosen")
	c.press("Disable")
	c.see("2 people would be disabled.")
	c.see("To take it back: innergate person enable")
	time.Sleep(800 * time.Millisecond)
	require.Empty(t, c.accessible(script, "many"))
	c.shot("people-many")
	c.press("Disable 2 people")
	c.see("2 people disabled")
	c.until(`[...document.querySelectorAll('.el-table__row')].filter((r) => r.innerText.includes('✕ disabled')).length >= 2`)
	c.open(d.Console + "watch/events")
	c.see("failed once")
	c.see("joined controllers")
	require.Empty(t, c.accessible(script, "events"))
	c.shot("console-events")
	do(c, chromedp.EmulateViewport(390, 800))
	c.open(d.Console + "watch/events")
	c.see("What was done")
	require.LessOrEqual(t, do(c, chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390)
}

// Events are paged without a gap while people change, by a cursor that says when it is too old.
func TestEventsArePaged(t *testing.T) {
	d := ownDemo(t)
	ctx, c := t.Context(), d.client()
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := range 120 {
			_, err := client.Call(ctx, c, api.AddPerson,
				api.Body(api.NewPerson{PersonChange: api.PersonChange{Values: map[string][]string{"displayName": {fmt.Sprint("P ",
					i)}}}}))
			if err != nil {
				return
			}
		}
	}()
	var numbers []int64
	for after, still := int64(0), true; still; {
		select {
		case <-done:
			still = false
		default:
		}
		for {
			page, err := client.Call(ctx, c, api.ListEvents, api.EventFilter{After: after, Limit: 7})
			require.NoError(t, err)
			for _, e := range page.Items {
				numbers = append(numbers, e.Number)
			}
			if after = page.Next; len(page.Items) == 0 {
				break
			}
		}
	}
	require.Greater(t, len(numbers), 120)
	for i, n := range numbers {
		require.EqualValues(t, i+1, n, "each once, none left out")
	}
	for body, want := range map[string]string{`{"people":{"numbers":[1]},"do":"exile"}`: "expected value to be one of",
		`{"people":{},"do":"disable"}`:                                                     "nobody is named",
		`{"people":{"numbers":[1],"search":"x"},"do":"disable"}`:                           "give numbers, or a list",
		`{"people":{"numbers":[1]},"do":"set"}`:                                            "nothing is said",
		`{"people":{"list":"number\n1\n77777\n"},"do":"disable"}`:                          "1 rows cannot be used",
		`{"people":{"numbers":[1]},"do":"disable","digest":"0"}`:                           "have changed since the preview",
		`{"people":{"numbers":[1]},"do":"set","set":{"values":{"emails":["no address"]}}}`: "is no e-mail address"} {
		status, said := d.sends(t, "POST", "/people/changes", body)
		require.GreaterOrEqual(t, status, 400, body)
		require.Contains(t, said, want, body)
	}
}
