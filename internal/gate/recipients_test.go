package gate

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/recipients"
	"innergate.example/innergate/internal/store"
)

// payroll is a recipient that keeps what it is posted; answer is its status.
type payroll struct {
	*httptest.Server
	mu     sync.Mutex
	answer int
	news   []recipients.News
}

func newPayroll(t *testing.T) *payroll {
	p := &payroll{answer: http.StatusAccepted}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		octets, _ := io.ReadAll(r.Body)
		p.mu.Lock()
		defer p.mu.Unlock()
		var n recipients.News
		if p.answer/100 == 2 && json.Unmarshal(octets, &n) == nil {
			p.news = append(p.news, n)
		}
		w.WriteHeader(p.answer)
	}))
	t.Cleanup(p.Close)
	return p
}

func (p *payroll) answers(status int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.answer = status
}

// heard are the numbers of the events that it was told, in their order, and how often it was told of a gap.
func (p *payroll) heard() (numbers []int64, gaps int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, n := range p.news {
		if n.Gone {
			gaps++
		}
		for _, e := range n.Events {
			numbers = append(numbers, e.ID)
		}
	}
	return numbers, gaps
}

// plainToken is a token that the test can read.
func plainToken(_ *federation.Gate, n recipients.News) (string, error) {
	octets, err := json.Marshal(n)
	return string(octets), err
}

// A recipient hears every event once it acknowledged the one before, in order, and again until it does; of what is
// gone before that it hears that something is. What was before it was added it does not hear.
func TestRecipientsHearInOrder(t *testing.T) {
	r := newRig(t)
	r.Recipients.Token, r.Recipients.Keep, r.Recipients.Most = plainToken, time.Hour, 1_000_000
	r.knows("displayName=Before")
	r.clock.set(r.clock.get().Add(time.Second))
	p := newPayroll(t)
	r.laid("recipient", "payroll", federation.Settings{"title": "Payroll", "address": p.URL})
	tell := func() {
		r.clock.set(r.clock.get().Add(2 * time.Hour))
		require.NoError(t, r.Recipients.Tell(ctx))
	}
	for i := range 250 {
		r.knows(fmt.Sprint("displayName=P ", i))
	}
	p.answers(http.StatusServiceUnavailable)
	tell()
	state, err := r.Recipients.List(ctx)
	require.NoError(t, err)
	require.Equal(t, []any{int64(250), 1, "it answered 503"}, []any{state[0].Waiting, state[0].Tries, state[0].Answer})
	require.NoError(t, r.Recipients.Tell(ctx))
	state, err = r.Recipients.List(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, state[0].Tries, "it is not asked again at once")
	found := func() (out []finding.Code) {
		got, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"payroll"}, Kind: "recipient"})
		require.NoError(t, err)
		for _, f := range got[0].Findings {
			out = append(out, f.Code)
		}
		return out
	}
	tell()
	require.Empty(t, found())
	tell()
	require.Equal(t, []finding.Code{finding.EventsUnheard}, found(), "three times it did not answer")
	r.restart()
	r.Recipients.Token, r.Recipients.Keep = plainToken, time.Hour
	p.answers(http.StatusNoContent)
	tell()
	require.Empty(t, found())
	heard, gaps := p.heard()
	require.Len(t, heard, 250)
	require.Zero(t, gaps)
	for i, n := range heard {
		require.EqualValues(t, i+2, n, "in order, and none of before")
	}
	r.knows("displayName=Lost")
	r.clock.set(r.clock.get().Add(3 * time.Hour))
	r.knows("displayName=Kept")
	require.NoError(t, r.Recipients.Sweep(ctx))
	_, err = r.People.Events(ctx, people.EventFilter{After: 250, Limit: 5})
	require.ErrorContains(t, err, "events after 250 are gone")
	page, err := r.People.Events(ctx, people.EventFilter{After: 252, Limit: 5})
	require.NoError(t, err, "nothing between was lost")
	require.Len(t, page.Events, 1)
	require.NoError(t, r.Recipients.Tell(ctx))
	heard, gaps = p.heard()
	require.Equal(t, []any{int64(253), 1}, []any{heard[len(heard)-1], gaps}, "it hears that something is gone")

	r.Recipients.Most = 2
	for range 5 {
		r.knows("displayName=Many")
	}
	require.NoError(t, r.Recipients.Sweep(ctx))
	_, oldest, newest, err := r.st.People(ctx).Events(store.EventPage{Limit: 10})
	require.NoError(t, err)
	require.Equal(t, []int64{257, 258}, []int64{oldest, newest}, "of too many the newest stay")
}

// What is posted to is an address that the gate may reach; a paused recipient hears nothing, and goes on where it was.
func TestRecipientsAreReachedByTheRules(t *testing.T) {
	r := newRig(t)
	r.Recipients.Token = plainToken
	r.laid("recipient", "inside", federation.Settings{"title": "Inside", "address": "https://10.0.0.7/events"})
	p := newPayroll(t)
	r.laid("recipient", "paused", federation.Settings{"title": "Paused", "address": p.URL, "paused": true})
	for _, bad := range []federation.Settings{{"title": "", "address": p.URL},
		{"title": "X", "address": "ftp://x.example"}, {"title": "X", "address": "https://u:p@x.example"},
		{"title": "X", "address": "https://x.example/#y"}, {"title": "X"}} {
		_, err := r.Records.Lay(ctx, tester, "recipient", "bad", 0, bad)
		require.Error(t, err, "%v", bad)
	}
	r.clock.set(r.clock.get().Add(time.Second))
	r.knows("displayName=Ada")
	require.NoError(t, r.Recipients.Tell(ctx))
	state, err := r.Recipients.List(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, state[0].Tries)
	require.Contains(t, state[0].Answer, "may not fetch from this address")
	_, err = r.Records.Lay(ctx, tester, "recipient", "paused", 1, federation.Settings{"paused": false})
	require.NoError(t, err)
	require.NoError(t, r.Recipients.Tell(ctx))
	heard, _ := p.heard()
	require.Len(t, heard, 1)
}

// What is done to many is what was shown: whom it is about, what becomes of each, and what ends. Whoever changes
// between stops it.
func TestManyAreDoneAsTheyWereShown(t *testing.T) {
	r := peopled(t)
	r.brings("n-1", "employeeNumber=W-1")
	r.brings("n-2", "employeeNumber=W-2")
	all := people.Many{People: []int64{1, 2, 3, 3, 2}, Do: people.DoDisable}
	seen, err := r.People.Many(ctx, tester, all)
	require.NoError(t, err)
	require.Equal(t, []any{3, 0, int64(2), false}, []any{seen.People, seen.Same, seen.Sessions, seen.Stored})
	_, before := r.everything()

	_, err = r.People.Change(ctx, tester, 3, people.Edit{Values: map[string][]string{"title": {"Guard"}}})
	require.NoError(t, err)
	all.Digest = seen.Digest
	_, err = r.People.Many(ctx, tester, all)
	require.ErrorContains(t, err, "have changed since the preview")
	all.Digest = ""
	seen, err = r.People.Many(ctx, tester, all)
	require.NoError(t, err)
	all.Digest = seen.Digest
	done, err := r.People.Many(ctx, tester, all)
	require.NoError(t, err)
	require.Equal(t, []any{seen.Listed, seen.Sessions, seen.Grants, true}, []any{done.Listed, done.Sessions, done.Grants,
		done.Stored})
	require.Zero(t, r.count(&store.SessionRow{}))
	_, after := r.everything()
	told := map[int64]person.Did{}
	for _, e := range after[len(before)+1:] {
		told[e.Person] = e.Did
	}
	for _, row := range done.Listed {
		require.Equal(t, row.Did, told[row.Person], "it is told as it was shown")
	}
	none, err := r.People.Many(ctx, tester, people.Many{People: []int64{1, 2, 3}, Do: people.DoDisable})
	require.NoError(t, err)
	require.Equal(t, 3, none.Same, "they are so already")

	gone := people.Many{Filter: &people.Filter{Search: "W-"}, Do: people.DoRemove}
	seen, err = r.People.Many(ctx, tester, gone)
	require.NoError(t, err)
	gone.Digest = seen.Digest
	require.Equal(t, 6, seen.People)
	_, err = r.People.Many(ctx, change.By{Who: "tester"}, gone)
	require.NoError(t, err)
	require.Zero(t, r.count(&store.PersonRow{}))
	require.Zero(t, r.orphans())
	_, events := r.everything()
	for _, e := range events {
		require.Contains(t, []person.Did{{}, {State: person.StateRemoved}}, e.Did, "of who is gone nothing else is told")
	}
}
