package person_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

var now = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

// attributes are written NAME=VALUE|VALUE.
func attributes(words ...string) (out []profile.Attribute) {
	for _, w := range words {
		name, values, _ := strings.Cut(w, "=")
		if values == "true" || values == "false" {
			out = append(out, profile.Attribute{Name: name, Values: []profile.Value{profile.BooleanOf(values == "true")}})
			continue
		}
		out = append(out, profile.Attribute{Name: name, Values: profile.Texts(strings.Split(values, "|")...)})
	}
	return out
}

func kept(from federation.ID, words ...string) (out []person.KeptValue) {
	for _, a := range attributes(words...) {
		k := person.KeptValue{Attribute: a, From: from, At: now}
		if from == person.FromHand || from == person.FromImport {
			k.Proofs = slices.Repeat([]person.Proof{person.ByEngineer}, len(a.Values))
		}
		out = append(out, k)
	}
	return out
}

// Somebody who comes by a new name is found by what the provider is trusted for: exactly
// one, or nobody.
func TestSeek(t *testing.T) {
	ada := person.Person{ID: 1, Values: kept("@import", "emails=ada@wrenmoor.example", "employeeNumber=W-1")}
	bram := person.Person{ID: 2, Values: kept("@import", "emails=bram@wrenmoor.example", "employeeNumber=W-2"),
		Links: []federation.ID{"p"}}
	twin := person.Person{ID: 3, Values: kept("@hand", "emails=ada@wrenmoor.example", "employeeNumber=w-2")}
	claimed := person.Person{ID: 4, Values: kept("club", "emails=claimed@wrenmoor.example", "employeeNumber=W-9")}
	kaja := person.Person{ID: 5, Values: kept("@hand", "emails=kaja@wrenmoor.example")}
	many := strings.Builder{}
	for i := range 1000 {
		many.WriteString("|x" + strconv.Itoa(i))
	}
	for _, c := range []struct {
		rule     string
		matching federation.Matching
		said     []string
		ruled    string
		people   []person.Person
		given    []person.Given
		picked   int64
		found    int64
		several  int
		prove    string
		refused  finding.Code
	}{
		{rule: "a verified address of one person", matching: federation.Matching{MatchBy: listed.ParseWords("emails")},
			said: []string{"email=Ada@Wrenmoor.example", "email_verified=true"}, people: []person.Person{ada, bram}, found: 1},
		{rule: "an address that the provider does not call verified",
			matching: federation.Matching{MatchBy: listed.ParseWords("emails")},
			said:     []string{"email=ada@wrenmoor.example", "email_verified=false"}, people: []person.Person{ada}},
		{rule: "an address of which nothing is said", matching: federation.Matching{MatchBy: listed.ParseWords("emails")},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada}},
		{rule: "verified says nothing of two addresses", matching: federation.Matching{MatchBy: listed.ParseWords("emails")},
			said: []string{"email=ada@wrenmoor.example|x@y.example", "email_verified=true"}, people: []person.Person{ada}},
		{rule: "an address of a domain that the provider stands for",
			matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
				VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"urn:oid:0.9.2342.19200300.100.1.3=ada@wrenmoor.example"}, people: []person.Person{ada},
			found: 1},
		{rule: "of a domain that only ends so", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("moor.example")},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada}},
		{rule: "an attribute that only looks alike", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"https://other.example/mail=ada@wrenmoor.example"}, people: []person.Person{ada}},
		{rule: "the first attribute that somebody has decides",
			matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber emails"),
				VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"employeeNumber=W-1", "mail=bram@wrenmoor.example"}, people: []person.Person{ada, bram},
			found: 1},
		{rule: "numbers count letter by letter", matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said: []string{"employeeNumber=W-2"}, people: []person.Person{twin}},
		{rule: "several people", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada, twin}, refused: finding.MatchSeveral},
		{rule: "several, and the person is asked", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example"), SeveralMatches: "ask"},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada, twin}, several: 2},
		{rule: "the one that was chosen", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example"), SeveralMatches: "ask"},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada, twin}, picked: 3, found: 3},
		{rule: "one who is none of them was chosen", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example"), SeveralMatches: "ask"},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada, twin}, picked: 2, several: 2},
		{rule: "linked to this provider by another name already",
			matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
				VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"mail=bram@wrenmoor.example"}, people: []person.Person{bram}, refused: finding.MatchLinked},
		{rule: "an address that could be proved", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			AskFor: listed.Equals.Parse("emails=verified")},
			said: []string{"mail=ada@wrenmoor.example"}, people: []person.Person{ada}, prove: "emails"},
		{rule: "one that was proved", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			AskFor: listed.Equals.Parse("emails=verified")},
			said:   []string{"mail=ada@wrenmoor.example"},
			people: []person.Person{ada}, given: []person.Given{{Name: "emails", Value: "ada@wrenmoor.example",
				Verified: true}}, found: 1},
		{rule: "nothing to be found by", matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber emails")},
			said: []string{"displayName=Ada"}, people: []person.Person{ada}},
		{rule: "a value that is only white space",
			matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said:     []string{"employeeNumber= "}, people: []person.Person{ada}},
		{rule: "with white space around it", matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said: []string{"employeeNumber= W-1 "}, people: []person.Person{ada}, found: 1},
		{rule: "two values of two people", matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said: []string{"employeeNumber=W-1|W-2"}, people: []person.Person{ada, bram}, refused: finding.MatchSeveral},
		{rule: "two values of one", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"mail=ada@wrenmoor.example|new@wrenmoor.example"}, people: []person.Person{ada}, found: 1},
		{rule: "an address that its provider did not prove",
			matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
				VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"mail=claimed@wrenmoor.example"}, people: []person.Person{claimed}},
		{rule: "a number that its provider is not trusted with",
			matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said:     []string{"employeeNumber=W-9"}, people: []person.Person{claimed}},
		{rule: "flagged by a rule of the intake, not by the provider",
			matching: federation.Matching{MatchBy: listed.ParseWords("emails")},
			said:     []string{"email=ada@wrenmoor.example"}, ruled: "email_verified=true", people: []person.Person{ada}},
		{rule: "letters that look alike", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("wrenmoor.example")},
			said: []string{"mail=\u212aaja@wrenmoor.example"}, people: []person.Person{kaja}},
		{rule: "a domain that looks alike", matching: federation.Matching{MatchBy: listed.ParseWords("emails"),
			VouchesFor: listed.ParseWords("mini.example")},
			said: []string{"mail=ceo@m\u0130ni.example"}, people: []person.Person{{ID: 6,
				Values: kept("@hand", "emails=ceo@mini.example")}}},
		{rule: "every value is looked at", matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said: []string{"employeeNumber=a|b|c|d|e|f|g|W-1"}, people: []person.Person{ada}, found: 1},
		{rule: "more values than anybody has", matching: federation.Matching{MatchBy: listed.ParseWords("employeeNumber")},
			said: []string{"employeeNumber=W-1" + many.String()}, people: []person.Person{ada}, refused: finding.MatchMany},
		{rule: "one that was only typed", matching: federation.Matching{MatchBy: listed.ParseWords("emails")},
			people: []person.Person{ada}, given: []person.Given{{Name: "emails", Value: "ada@wrenmoor.example"}}},
	} {
		p := &federation.Provider{}
		p.ID, p.Matching = "p", c.matching
		in := person.Comes{Key: "k", Who: profile.PassThrough(profile.Subject{Value: "x"}, attributes(c.said...)),
			Given:  c.given,
			Picked: c.picked, Having: map[string][]person.Person{}}
		if c.ruled != "" {
			in.Who.Attributes = append(in.Who.Attributes, attributes(c.ruled)...)
		}
		var seen person.Seen
		var err error
		for range 10 {
			var need *person.Need
			if seen, need, err = person.Seek(p, in); need == nil {
				break
			}
			for _, s := range need.Having {
				in.Having[s.String()] = []person.Person{}
				for _, x := range c.people { // also those who do not have it
					for _, k := range x.Values {
						if profile.Word(k.Name) == s.Attribute && strings.EqualFold(k.Attribute.Values[0].String(), s.Value) {
							in.Having[s.String()] = append(in.Having[s.String()], x)
						}
					}
				}
			}
		}
		if c.refused != "" {
			require.Equal(t, c.refused, finding.Of(err).Code, c.rule)
			continue
		}
		require.NoError(t, err, c.rule)
		require.Equal(t, []any{c.found, c.several, c.prove}, []any{seen.Person.ID, len(seen.Several), seen.Prove}, c.rule)
	}
}

func unit(k federation.Kind, name, inside, userType string) *federation.Unit {
	return &federation.Unit{Kind: k, Name: federation.Name(name), Title: name, Inside: federation.Name(inside),
		UserType: userType}
}

// Where somebody belongs follows what the provider says now, and nothing else; whoever
// comes for the first time lands where the organisation says; marks come from the nearest.
func TestBelonging(t *testing.T) {
	org := unit(federation.KindOrganisation, "oakhollow", "", "partner")
	org.Providers, org.Domains, org.Groups = []federation.Name{"p"}, []string{"oakhollow.example"},
		[]federation.Name{"guests"}
	drivers := unit(federation.KindGroup, "drivers", "operations", "")
	drivers.Values = []string{"CN=Drivers,OU=Rail"}
	p := &federation.Provider{}
	p.Name, p.ID = "p", "p-id"
	snap := federation.NewSnapshot(federation.Gate{}).With(org, drivers, unit(federation.KindGroup, "operations", "",
		"staff"),
		unit(federation.KindGroup, "guests", "", ""), unit(federation.KindGroup, "own", "", ""))
	group := func(name, source string) person.Membership {
		return person.Membership{Kind: federation.KindGroup, Name: federation.Name(name), Source: federation.ID(source)}
	}
	landed := person.Membership{Kind: federation.KindOrganisation, Name: "oakhollow", Source: "p-id"}
	for _, c := range []struct {
		rule   string
		values string // groupValues
		said   []string
		who    person.Person
		want   []person.Membership
		mark   string
	}{
		{"somebody new lands", "", []string{"groups=drivers"}, person.Person{}, []person.Membership{landed,
			group("guests", "@organisation")}, "partner"},
		{"somebody known does not land again", "", nil, person.Person{ID: 1}, nil, ""},
		{"whoever is linked now lands", "", nil, person.Person{ID: 1, Linking: true},
			[]person.Membership{landed, group("guests", "@organisation")}, "partner"},
		{"values make members, by any name", "known", []string{"groups=cn=drivers,ou=rail|unheard-of"}, person.Person{ID: 1},
			[]person.Membership{group("drivers", "p-id")}, "staff"},
		{"what the provider says no more is gone, all else stays", "known", []string{"groups="},
			person.Person{ID: 1, Members: []person.Membership{group("drivers", "p-id"), group("drivers", "other"),
				group("own", "@hand")}},
			[]person.Membership{group("drivers", "other"), group("own", "@hand")}, "staff"},
		{"nothing is followed unless so set", "", []string{"groups="}, person.Person{ID: 1,
			Members: []person.Membership{group("drivers", "p-id")}},
			[]person.Membership{group("drivers", "p-id")}, "staff"},
		{"groups are made", "create", []string{"groups=Night Shift"}, person.Person{ID: 1},
			[]person.Membership{group("night-shift", "p-id")}, ""},
		{"what a provider says of its own accord counts last", "", []string{"userType=employee"}, person.Person{ID: 1,
			Members: []person.Membership{group("drivers", "@hand")}}, []person.Membership{group("drivers", "@hand")}, "staff"},
		{"and counts where nothing else marks", "", []string{"userType=visitor"}, person.Person{ID: 1}, nil, "visitor"},
		{"what was typed marks", "", nil, person.Person{ID: 1, Values: kept(person.FromHand, "userType=auditor"),
			Members: []person.Membership{group("drivers", "@hand")}},
			[]person.Membership{group("drivers", "@hand")}, "auditor"},
	} {
		p.GroupValues = c.values
		in := profile.PassThrough(profile.Subject{Value: "x"}, attributes(c.said...))
		got := person.Stand(snap, p, in, c.who, nil).Members()
		require.Equal(t, c.want, got, c.rule)
		require.Equal(t, c.mark, person.Marked(snap, p, in, c.who.Values, got), c.rule)
	}
	require.NoError(t, json.Unmarshal([]byte(`{"rules":[{"to":{"name":"userType"},"from":[{"constant":"visitor"}]}]}`),
		&p.IntakeMapping))
	require.Equal(t, "visitor", person.Marked(snap, p, profile.PassThrough(profile.Subject{},
		attributes("userType=visitor")), nil,
		[]person.Membership{group("drivers", "@hand")}), "a rule of the intake goes first")
	p.IntakeMapping = profile.Mapping{}
	p.GroupValues = "create"
	long := strings.Repeat("Night Shift ", 20)[:201]
	for value, made := range map[string]bool{long: true, strings.Repeat("x", 600): false, "a\u0000b": false,
		"Day": true} {
		units := person.Wanting(snap, p, profile.PassThrough(profile.Subject{Value: "x"}, attributes("groups="+value)))
		require.Len(t, units, map[bool]int{true: 1}[made], "%.20s", value)
		for _, g := range units {
			require.NoError(t, snap.CheckUnit(&g))
			called, _ := snap.With(&g).GroupCalled(value)
			require.NotNil(t, called, "%.20s", value)
		}
	}
	var all []federation.Object
	for n := range federation.MostUnits {
		all = append(all, &federation.Unit{Kind: federation.KindGroup, Name: federation.Name(fmt.Sprint("g", n)),
			Title: "g"})
	}
	require.Empty(t, person.Stand(federation.NewSnapshot(federation.Gate{}).With(all...), p,
		profile.PassThrough(profile.Subject{Value: "x"}, attributes("groups=Day")), person.Person{ID: 1}, nil).Members(),
		"there are too many")
	p.GroupValues = "known"
	who := person.Person{ID: 1, Values: kept("p-id", "displayName=Ada"), Members: []person.Membership{group("own",
		"@hand"), landed}}
	known := person.Stand(snap, p, profile.PassThrough(profile.Subject{Value: "x"}, attributes("groups=drivers|raw")),
		who, nil).Known()
	require.Equal(t, profile.Texts("own", "drivers", "operations"), profile.Find(known.Attributes, "groups"))
	require.Equal(t, profile.Texts("oakhollow"), profile.Find(known.Attributes, "organization"))
	require.Equal(t, attributes("groups=drivers|raw"), known.Said(), "what an application without rules is told")
}

// A sign-in keeps what the record says, each in its way; what was typed, or came by others,
// is only replaced, never taken away.
func TestUpdating(t *testing.T) {
	p := &federation.Provider{}
	p.ID, p.Update, p.AskFor = "p", listed.Equals.Parse("displayName title=follow nickName=once emails"),
		listed.Equals.Parse("emails=verified")
	snap := federation.NewSnapshot(federation.Gate{})
	proved := []person.KeptValue{{Attribute: attributes("emails=a@proved.example")[0], From: person.FromPerson,
		Proofs: []person.Proof{person.ByMail}, At: now}}
	for _, c := range []struct {
		rule    string
		stored  []person.KeptValue
		said    []string
		given   []person.Given
		want    string
		changes bool
	}{
		{"what comes is kept", nil, []string{"name=Ada", "other=x"}, nil, "displayName=Ada", true},
		{"the same changes nothing", kept("p", "displayName=Ada"), []string{"cn=Ada"}, nil, "displayName=Ada", false},
		{"always: what does not come stays", kept("p", "displayName=Ada"), nil, nil, "displayName=Ada", false},
		{"follow: what does not come goes", kept("p", "title=Driver"), nil, nil, "", true},
		{"follow takes nothing away that came by others", kept("@hand", "title=Driver"), nil, nil, "title=Driver", false},
		{"once: the first one stays", kept("p", "nickName=Ad"), []string{"nickname=Addie"}, nil, "nickName=Ad", false},
		{"what is too long is not kept", nil, []string{"name=" + strings.Repeat("x", 3000)}, nil, "", false},
		{"one of several that is too long is left out", nil, []string{"name=" + strings.Repeat("x", 3000) + "|Ada"}, nil,
			"displayName=Ada", true},
		{"several values are kept", nil, []string{"mail=a@x.example|b@x.example"}, nil, "emails=a@x.example, b@x.example",
			true},
		{"a value that is empty is none", kept("p", "title=Driver"), []string{"title= "}, nil, "", true},
		{"groups are no value", nil, []string{"groups=a|b"}, nil, "", false},
		{"what was imported stays where nothing comes", kept("@import", "displayName=Ada", "title=Driver",
			"department=North"), nil, nil,
			"displayName=Ada title=Driver department=North", false},
		{"what another provider brought stays", kept("other", "title=Driver"), nil, nil, "title=Driver", false},
		{"and is replaced by what comes", kept("other", "title=Driver"), []string{"title=Guard"}, nil, "title=Guard", true},
		{"several attributes at once", kept("p", "displayName=Ada", "title=Driver"), []string{"cn=Ada F.", "title=Driver"},
			nil,
			"title=Driver displayName=Ada F.", true},
		{"another source replaces", kept("@hand", "displayName=A."), []string{"name=Ada"}, nil, "displayName=Ada", true},
		{"what nothing keeps any more goes", kept("p", "department=North"), nil, nil, "", true},
		{"an unverified address takes no proved one's place", proved, []string{"mail=other@x.example"}, nil,
			"emails=a@proved.example", false},
		{"what the person said is kept as theirs", nil, []string{"mail=b@x.example"},
			[]person.Given{{Name: "emails", Value: "c@x.example", Verified: true}},
			"emails=c@x.example", true},
	} {
		put := person.Stand(snap, p, profile.PassThrough(profile.Subject{}, attributes(c.said...)),
			person.Person{ID: 1, Values: c.stored}, c.given).Updating()
		out, changed := put.Over(c.stored, now)
		words := []string{}
		for _, v := range out {
			words = append(words, v.Name+"="+profile.Joined(v.Attribute.Values))
		}
		require.Equal(t, []any{c.want, c.changes}, []any{strings.Join(words, " "), changed}, c.rule)
	}
}

// Whoever comes by a provider that belongs to no organisation lands by the domain of an
// address, if that is verified.
func TestLandingByDomain(t *testing.T) {
	org := unit(federation.KindOrganisation, "oakhollow", "", "")
	org.Domains = []string{"oakhollow.example"}
	snap := federation.NewSnapshot(federation.Gate{}).With(org)
	for _, c := range []struct {
		rule     string
		vouches  string
		by       string
		said     []string
		belongs  int
		attested bool
		given    []person.Given
	}{
		{"verified, by whom nobody is matched", "", "", []string{"email=mina@oakhollow.example", "email_verified=true"}, 0,
			false, nil},
		{"verified", "", "emails", []string{"email=Mina@Oakhollow.example", "email_verified=true"}, 1, false, nil},
		{"not verified", "", "emails", []string{"email=mina@oakhollow.example", "email_verified=false"}, 0, false, nil},
		{"stood for", "oakhollow.example", "", []string{"mail=mina@oakhollow.example"}, 1, false, nil},
		{"another domain", "", "emails", []string{"email=mina@sub.oakhollow.example", "email_verified=true"}, 0, false, nil},
		{"proved by the person", "", "emails", []string{"email=mina@oakhollow.example"}, 1, true,
			[]person.Given{{Name: "emails", Value: "mina@oakhollow.example", Verified: true}}},
		{"typed, not proved", "", "emails", nil, 0, false, []person.Given{{Name: "emails",
			Value: "mina@oakhollow.example"}}},
	} {
		p := &federation.Provider{}
		p.Name, p.ID, p.VouchesFor = "p", "p-id", listed.ParseWords(c.vouches)
		p.MatchBy = listed.ParseWords(c.by)
		in := profile.PassThrough(profile.Subject{Value: "x"}, attributes(c.said...))
		stands := person.Stand(snap, p, in, person.Person{}, c.given)
		require.Len(t, stands.Members(), c.belongs, c.rule)
		known := stands.Known()
		said := profile.Find(known.Attributes, profile.ClaimEmailVerified)
		require.Equal(t, c.attested, len(said) == 1 && said[0].True() && c.given != nil,
			"%s: what the person proved is told as verified", c.rule)
	}
}
