package profile_test

import (
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

func mapping(t testing.TB, rules string) profile.Mapping {
	t.Helper()
	var m profile.Mapping
	require.NoError(t, json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &m), rules)
	return m
}

func structure(t testing.TB, s string) profile.Value {
	t.Helper()
	v, err := profile.StructureOf([]byte(s))
	require.NoError(t, err)
	return v
}

// ada is somebody as she arrives.
func ada(t testing.TB) profile.Profile {
	return profile.Profile{Subject: profile.Subject{Value: "Ada.Fenwick@wrenmoor.example"},
		Attributes: []profile.Attribute{
			{Name: "urn:oid:2.5.4.42", Format: "uri", Friendly: "givenName", Values: profile.Texts(" Ada ")},
			{Name: "mail", Values: profile.Texts("Ada.Fenwick@wrenmoor.example", "ada@wrenmoor.example")},
			{Name: "mail", Format: "other", Values: profile.Texts("other@wrenmoor.example")},
			{Name: "groups", Values: profile.Texts("wm-drivers", "wm-signals", "all", "wm-drivers")},
			{Name: "role", Values: profile.Texts("urn:role:driver")},
			{Name: "born", Values: profile.Texts("23.11.1990", "soon")},
			{Name: "empty", Values: nil},
			{Name: "blank", Values: profile.Texts("", "")},
			{Name: "at", Values: profile.Texts("2026-11-26T09:00:00+01:00", "noon")},
			{Name: "grade", Values: profile.Texts("7", "x", "1e2")},
			{Name: "address", Values: []profile.Value{structure(t,
				`{"country":"NO","lines":["a","b",[1]],"x":null,"in":{"y":2}}`)}},
		}}
}

// Each step does what its line in docs says, and what it leaves out is said.
func TestSteps(t *testing.T) {
	for what, c := range map[string]struct {
		rule, want, without string
	}{
		"trim": {`"from":[{"attribute":"givenName"}],"steps":[{"do":"trim"}]`, "Ada", ""},
		"account name": {`"from":[{"subject":true}],"steps":[{"do":"before","text":"@"},{"do":"lower"}]`,
			"ada.fenwick", ""},
		"before what is not": {`"from":[{"subject":true}],"steps":[{"do":"before","text":"#"}]`,
			"Ada.Fenwick@wrenmoor.example", ""},
		"domain": {`"from":[{"subject":true}],"steps":[{"do":"after","text":"@"},{"do":"upper"}]`,
			"WRENMOOR.EXAMPLE", ""},
		"last parts": {`"from":[{"subject":true}],"steps":[{"do":"afterLast","text":"."}]`, "example", ""},
		"before the last": {`"from":[{"subject":true}],"steps":[{"do":"beforeLast","text":"."}]`,
			"Ada.Fenwick@wrenmoor", ""},
		"role and provider": {`"from":[{"attribute":"role"}],"steps":[{"do":"suffix","text":",urn:provider:wm"}]`,
			"urn:role:driver,urn:provider:wm", ""},
		"groups of a prefix": {`"from":[{"attribute":"groups"}],"steps":[{"do":"capture","text":"^wm-(.*)"},{"do":"distinct"}]`, "drivers|signals", `"all" is not matched by ^wm-(.*)`},
		"kept": {`"from":[{"attribute":"groups"}],"steps":[{"do":"keep","text":"s$"},{"do":"first"}]`,
			"wm-drivers", `"all" is left out by keep "s$"`},
		"dropped": {`"from":[{"attribute":"groups"}],"steps":[{"do":"drop","text":"^wm-"}]`, "all",
			`"wm-drivers" is left out by drop "^wm-"`},
		"replaced": {`"from":[{"attribute":"role"}],"steps":[{"do":"replace","text":"urn:(\\w+):(?P<who>\\w+)","with":"$$${1}-${who}"}]`, "$role-driver", ""},
		"joined": {`"from":[{"attribute":"groups"}],"steps":[{"do":"distinct"},{"do":"join","text":";"}]`,
			"wm-drivers;wm-signals;all", ""},
		"split": {`"from":[{"constant":"a; b ;;c"}],"steps":[{"do":"split","text":";"},{"do":"prefix","text":"x"}]`,
			"xa|xb|xc", ""},
		"looked up": {`"from":[{"attribute":"groups"}],"steps":[{"do":"lookUp","table":[{"from":"all","to":"everybody"}],"else":"other"},{"do":"distinct"}]`, "other|everybody", ""},
		"not in the table": {`"from":[{"attribute":"groups"}],"steps":[{"do":"lookUp","table":[{"from":"all","to":""}]}]`,
			"", `"wm-drivers" is not in the table`},
		"date": {`"from":[{"attribute":"born"}],"steps":[{"do":"date","text":"02.01.2006","with":"date"}]`,
			"1990-11-23", `"soon" is no date in the form 02.01.2006`},
		"seconds": {`"from":[{"constant":"60"}],"steps":[{"do":"date","text":"seconds","with":"dateTime"}]`,
			"1970-01-01T00:01:00Z", ""},
		"numbers": {`"from":[{"attribute":"grade"}],"steps":[{"do":"number"}]`, "7|1e2", `"x" is no number`},
		"of a type": {`"to":{"name":"t","type":"number"},"from":[{"attribute":"grade"}]`, "7|1e2",
			`"x" is no number`},
		"booleans": {`"from":[{"constant":"Yes, 0 ,perhaps"}],"steps":[{"do":"split","text":","},{"do":"boolean"}]`,
			"true|false", `"perhaps" is neither true nor false`},
		"in order": {`"from":[{"attribute":"nickname"},{"attribute":"empty"},{"attribute":"role"}]`,
			"urn:role:driver", ""},
		"all":                 {`"all":true,"from":[{"attribute":"role"},{"constant":"b"},{"attribute":"givenName"}],"steps":[{"do":"trim"}]`, "urn:role:driver|b|Ada", ""},
		"a default":           {`"from":[{"attribute":"nickname"}],"default":["none"]`, "none", ""},
		"a name before":       {`"from":[{"attribute":"mail"}]`, "Ada.Fenwick@wrenmoor.example|ada@wrenmoor.example", ""},
		"of a format":         {`"from":[{"attribute":"mail","nameFormat":"other"}]`, "other@wrenmoor.example", ""},
		"by path":             {`"from":[{"attribute":"address.country"}]`, "NO", ""},
		"a list by path":      {`"from":[{"attribute":"address.lines"}]`, "a|b", ""},
		"null by path":        {`"from":[{"attribute":"address.x"}]`, "", ""},
		"deeper":              {`"from":[{"attribute":"address.in.y"}]`, "2", ""},
		"a structure":         {`"from":[{"attribute":"address.in"}]`, `{"y":2}`, ""},
		"a structure as text": {`"from":[{"attribute":"address"}],"steps":[{"do":"lower"}]`, "", `is a structure`},
		"an empty source":     {`"from":[{"attribute":"blank"},{"attribute":"role"}]`, "urn:role:driver", ""},
		"emptied by a step":   {`"from":[{"attribute":"role"}],"steps":[{"do":"replace","text":".*","with":""}],"default":["x"]`, "x", `is empty`},
		"one of them empty":   {`"all":true,"from":[{"attribute":"blank"},{"constant":"b"}]`, "b", ""},
		"one emptied": {`"from":[{"attribute":"grade"}],"steps":[{"do":"replace","text":"x","with":""}]`, "7|1e2",
			`"" is empty`},
		"a time": {`"to":{"name":"t","type":"time"},"from":[{"attribute":"at"}]`, "2026-11-26T08:00:00Z",
			`"noon" is no time`},
		"a condition": {`"when":"attributes.groups.exists(g, g == 'wm-drivers')","from":[{"constant":"yes"}]`,
			"yes", ""},
		"one that does not hold": {`"when":"nameFormat != ''","from":[{"constant":"yes"}],"default":["no"]`, "", ""},
		"one without an answer": {`"when":"attributes.none[0] == 'x'","from":[{"constant":"yes"}]`, "",
			"the condition cannot be answered: no such key: none"},
		"one that asks first": {`"when":"!has(attributes.none) && subject.endsWith('.example')","from":[{"constant":"yes"}]`,
			"yes", ""},
		"a value": {`"from":[{"expression":"attributes.role[0].split(':')[2] + '@' + subject.split('@')[1]"}]`,
			"driver@wrenmoor.example", ""},
		"a list":      {`"from":[{"expression":"attributes.groups.filter(g, g.startsWith('wm-')).map(g, g.substring(3))"}],"steps":[{"do":"distinct"}]`, "drivers|signals", ""},
		"one of many": {`"all":true,"from":[{"constant":"a"},{"expression":"attributes[?'none'].orValue([])"},{"expression":"int(attributes.grade[0]) + 1"}]`, "a|8", ""},
		"a member":    {`"from":[{"expression":"attributes.address[0].lines[1]"}]`, "b", ""},
		"a map":       {`"from":[{"expression":"{'n': attributes.grade.size()}"}]`, `{"n":3}`, ""},
		"past the end": {`"from":[{"expression":"attributes.role[7]"},{"attribute":"role"}]`, "urn:role:driver",
			"cannot be worked out: index out of bounds: 7"},
		"of control characters": {`"from":[{"expression":"subject + '\\n'"}]`, "", "has control characters"},
		"too costly": {`"from":[{"expression":"[1,2,3,4,5,6,7,8,9,0].all(a, [1,2,3,4,5,6,7,8,9,0].all(b, [1,2,3,4,5,6,7,8,9,0].all(c, ` +
			`[1,2,3,4,5,6,7,8,9,0].all(d, [1,2,3,4,5,6,7,8,9,0].all(e, a+b+c+d+e >= 0)))))"}]`, "", "cost limit"},
		"deeper than there is": {`"from":[{"attribute":"address.country.code"}]`, "", ""},
	} {
		rule := c.rule
		if !strings.HasPrefix(rule, `"to"`) {
			rule = `"to":{"name":"t"},` + rule
		}
		m := mapping(t, `{`+rule+`}`)
		got, err := m.Run(ada(t), profile.Release, true)
		require.NoError(t, err, what)
		texts := []string{}
		for _, a := range got.Attributes {
			for _, v := range a.Values {
				texts = append(texts, v.String())
			}
		}
		require.Equal(t, c.want, strings.Join(texts, "|"), what)
		require.Contains(t, strings.Join(got.Worked[0].Without, "; "), c.without, what)
		quiet, err := m.Run(ada(t), profile.Release, false)
		require.NoError(t, err, what)
		require.Equal(t, got.Attributes, quiet.Attributes, "%s: telling changes nothing", what)
	}
}

// What cannot work is refused before it is saved, with the place and the way out.
func TestMappingsThatCannotWork(t *testing.T) {
	lines := `{"from":"a","to":"b"},{"from":"a","to":"c"}`
	to := `{"to":{"name":"t"},"from":[{"attribute":"a"}]`
	for rules, want := range map[string]string{
		`{"to":{"name":"t"}}`:                                                "rule 1, from: it has no source",
		`{"to":{"name":" "},"from":[{"attribute":"a"}]}`:                     `to.name: it is empty`,
		`{"to":{"name":"t"},"from":[{}]}`:                                    `from[0]: it is to be one of`,
		`{"to":{"name":"t"},"from":[{"attribute":"a","subject":true}]}`:      `2 are given`,
		`{"to":{"name":"t"},"from":[{"constant":"a"},{"attribute":"b"}]}`:    `from[1]: it is never reached`,
		to + `},` + to + `}`:                                                 `rule 2, to: rule 1 makes t already`,
		to + `,"steps":[{"do":"befor","text":"@"}]}`:                         `there is no step "befor"`,
		to + `,"steps":[{"do":"before"}]}`:                                   `steps[0].text: before needs one`,
		to + `,"steps":[{"do":"trim","text":"x"}]}`:                          `trim takes none`,
		to + `,"steps":[{"do":"keep","text":"a(b"}]}`:                        `does not compile at character 1: missing closing ): "a(b"`,
		to + `,"steps":[{"do":"keep","text":"ab[z-a]"}]}`:                    `at character 4: invalid character class range: "z-a"`,
		to + `,"steps":[{"do":"keep","text":"((a{30}){30}b){1}c(d{200})"}]}`: `costs too much`,
		to + `,"steps":[{"do":"keep","text":"(a{1000}){1000}"}]}`:            `character`,
		to + `,"steps":[{"do":"replace","text":"(a)","with":"$1x"}]}`:        `no group 1x`,
		to + `,"steps":[{"do":"replace","text":"(a)","with":"${2}"}]}`:       `no group 2`,
		to + `,"steps":[{"do":"lookUp","table":[` + lines +
			`]}]}`: `steps[0].table[1]: "a" stands in an earlier line`,
		to + `,"steps":[{"do":"date","text":"dd.mm","with":"date"}]}`:                       `"dd.mm" is no form of a date`,
		to + `,"mandatory":true,"default":["x"]}`:                                           `mandatory: with a default`,
		to + `,"steps":[{"do":"prefix","text":"\u0007"}]}`:                                  `control characters`,
		`{"to":{"name":"t","type":"number"},"from":[{"attribute":"a"}],"default":["x"]}`:    `"x" is no number`,
		`{"to":{"name":"t","type":"colour"},"from":[{"attribute":"a"}]}`:                    `no type "colour"`,
		`{"to":{"name":"t","subject":true},"from":[{"attribute":"a"}]}`:                     `leave out "t"`,
		to + `,"when":"attributes.a = 'x'"}`:                                                "when: the expression does not compile at line 1, character 14",
		to + `,"when":"subject"}`:                                                           "the condition gives string",
		to + `,"when":"subjekt == 'x'"}`:                                                    "character 1: undeclared reference to 'subjekt'",
		`{"to":{"name":"t"},"from":[{"expression":"1 +\n 'a'"}]}`:                           "from[0].expression: the expression does not compile at line 1",
		`{"to":{"name":"t"},"from":[{"expression":"` + strings.Repeat("1+", 2000) + `1"}]}`: "has 4001 octets",
		`{"to":{"name":"t"},"from":[{"expression":"` + strings.Repeat("(", 300) + `1"}]}`:   "does not compile",
		to + `,"mandatry":true}`:                                                            `unknown field "mandatry"`,
		strings.Repeat(to+"},", 200) + to + "}":                                             "there are 201 rules",
	} {
		var m profile.Mapping
		err := json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &m)
		require.ErrorContains(t, err, want, rules)
		require.IsType(t, &profile.MappingError{}, err)
	}
}

// A mandatory value that is missing says what arrived, and what is nearest to it.
func TestWhatIsMissingIsSaid(t *testing.T) {
	m := mapping(t, `{"to":{"name":"emails"},"from":[{"attribute":"maill"}],"mandatory":true}`)
	for way, code := range map[profile.Way]finding.Code{profile.Intake: finding.AttributeMissing,
		profile.Release: finding.ReleaseMissing} {
		_, err := m.Run(ada(t), way, false)
		require.True(t, finding.Is(err, code))
		for _, what := range []string{"emails", "maill", "groups", "Nearest"} {
			require.ErrorContains(t, err, what)
		}
	}
	m = mapping(t, `{"to":{"name":"t"},"from":[{"attribute":"role"}],"steps":[{"do":"keep","text":"x"}],"mandatory":true}`)
	_, err := m.Run(ada(t), profile.Intake, false)
	require.ErrorContains(t, err, "step 1 left nothing of role")
}

// The subject can be made; what no rule reads is handed on only where the mapping says so.
func TestSubjectAndTheRest(t *testing.T) {
	m := mapping(t, `{"to":{"subject":true},"from":[{"attribute":"role"}],"steps":[{"do":"afterLast","text":":"}]}`)
	got, err := m.Run(ada(t), profile.Release, false)
	require.NoError(t, err)
	require.Equal(t, "driver", got.Subject.Value)
	require.Empty(t, got.Attributes)
	require.True(t, m.Reads(profile.Attribute{Name: "role"}))
	require.False(t, m.Reads(profile.Attribute{Name: "mail"}))
	m.Rest = true
	octets, err := json.Marshal(m)
	require.NoError(t, err)
	var again profile.Mapping
	require.NoError(t, json.Unmarshal(octets, &again))
	got, err = again.Run(ada(t), profile.Release, false)
	require.NoError(t, err)
	require.Len(t, got.Attributes, len(ada(t).Attributes)-1)
	for _, none := range []string{`{}`, `{"rules":[]}`, `{"rest":true}`, `null`} {
		var m profile.Mapping
		require.NoError(t, json.Unmarshal([]byte(none), &m))
		require.True(t, m.IsZero(), none)
		require.Empty(t, m.Sources(), none)
		require.True(t, m.Reads(profile.Attribute{Name: "mail"}),
			"%s: without rules everything is kept", none)
	}
	mandatory := mapping(t, `{"to":{"name":"t"},"from":[{"attribute":"blank"}],"mandatory":true}`)
	_, err = mandatory.Run(ada(t), profile.Intake, false)
	require.True(t, finding.Is(err, finding.AttributeMissing), "an empty value is none")
	require.ErrorContains(t, json.Unmarshal([]byte(`{"rules":"x"}`), &m), "rules is a string")
}

// What an expression reads is known, so that the rest need not be kept.
func TestExpressionsSayWhatTheyRead(t *testing.T) {
	for text, reads := range map[string]string{
		`attributes.mail[0] + attributes["uid"][0]`:                  "mail uid",
		`'sn' in attributes ? attributes[?"cn"].orValue([]) : []`:    "sn cn",
		`has(attributes.mail) && attributes.groups.all(g, g != "x")`: "mail groups",
		`subject`:              "",
		`attributes.map(k, k)`: "mail uid sn cn groups other",
		`attributes[subject]`:  "mail uid sn cn groups other",
		`[{"a": attributes.uid}][0].a.map(u, u + attributes.sn[0])`: "uid sn",
		`attributes.?cn.orValue([])`:                                "cn",
	} {
		m := profile.Mapping{Rules: []profile.Rule{{To: profile.Target{Name: "t"},
			From: []profile.Source{{Expression: text}}}}}
		octets, err := json.Marshal(m)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(octets, &m))
		for _, name := range strings.Fields("mail uid sn cn groups other") {
			require.Equal(t, slices.Contains(strings.Fields(reads), name), m.Reads(profile.Attribute{Name: name}), "%s: %s",
				text, name)
		}
	}
}

// What somebody can send is bounded, in values and in octets.
func TestMappingsAreBounded(t *testing.T) {
	many := profile.Profile{Attributes: []profile.Attribute{{Name: "g", Values: slices.Repeat(profile.Texts("v"), 10000)},
		{Name: "long", Values: profile.Texts(strings.Repeat("a,", 30000))}}}
	for rule, outcome := range map[string]profile.Outcome{
		`"from":[{"attribute":"g"}],"steps":[{"do":"prefix","text":"x"}]`:                     profile.Applied,
		`"all":true,"from":[{"attribute":"g"},{"constant":"1"}],"steps":[{"do":"trim"}]`:      profile.TooMuch,
		`"from":[{"attribute":"long"}],"steps":[{"do":"split","text":","}]`:                   profile.TooMuch,
		`"from":[{"attribute":"long"}],"steps":[{"do":"replace","text":"a","with":"aaaaaa"}]`: profile.TooMuch,
	} {
		got, err := mapping(t, `{"to":{"name":"t"},`+rule+`}`).Run(many, profile.Intake, true)
		require.NoError(t, err)
		require.Equal(t, outcome, got.Worked[0].Outcome, rule)
	}
}

// What all rules together cost is bounded too: many patterns over long values end, and say
// that it was too much.
func TestTheCostOfAllRulesIsBounded(t *testing.T) {
	rules := []string{}
	for i := range profile.MostRules {
		rules = append(rules, fmt.Sprintf(`{"to":{"name":"t%d"},"from":[{"attribute":"long"}],"steps":[{"do":"keep","text":"(a?){40}b$"}]}`, i))
	}
	long := profile.Profile{Attributes: []profile.Attribute{{Name: "long",
		Values: slices.Repeat(profile.Texts(strings.Repeat("a", 60000)), 10)}}}
	got, err := mapping(t, strings.Join(rules, ",")).Run(long, profile.Intake, true)
	require.NoError(t, err)
	require.Equal(t, profile.TooMuch, got.Worked[profile.MostRules-1].Outcome)
}

// FuzzMapping: whatever is compiled runs, and says the same with and without telling.
func FuzzMapping(f *testing.F) {
	f.Add(`{"rules":[{"to":{"name":"t"},"from":[{"attribute":"groups"}],"steps":[{"do":"capture","text":"a(b)?"}]}]}`,
		"wm-x")
	f.Fuzz(func(t *testing.T, text, value string) {
		var m profile.Mapping
		if json.Unmarshal([]byte(text), &m) != nil {
			return
		}
		p := profile.Profile{Attributes: []profile.Attribute{{Name: "groups", Values: profile.Texts(value, "7")}}}
		a, err := m.Run(p, profile.Intake, false)
		b, err2 := m.Run(p, profile.Intake, true)
		require.Equal(t, err == nil, err2 == nil)
		require.Equal(t, a.Attributes, b.Attributes)
	})
}

// BenchmarkMapping runs sixty rules as a sign-in does; beside it, one match of a pattern.
func BenchmarkMapping(b *testing.B) {
	rules := []string{}
	for i := range 60 {
		steps := []string{`{"do":"lower"}`, `{"do":"before","text":"@"}`, `{"do":"trim"}`, `{"do":"suffix","text":"x"}`}
		rules = append(rules, fmt.Sprintf(`{"to":{"name":"t%d"},"from":[{"attribute":"a%d"}],"steps":[%s]}`, i, i%20,
			steps[i%4]))
	}
	p := profile.Profile{}
	for i := range 20 {
		p.Attributes = append(p.Attributes, profile.Attribute{Name: fmt.Sprint("a", i),
			Values: profile.Texts("Ada.Fenwick@wrenmoor.example")})
	}
	m := mapping(b, strings.Join(rules, ","))
	b.Run("rules=60", func(b *testing.B) {
		for b.Loop() {
			if _, err := m.Run(p, profile.Intake, true); err != nil {
				b.Fatal(err)
			}
		}
	})
	re := regexp.MustCompile("^ada")
	b.Run("pattern", func(b *testing.B) {
		for b.Loop() {
			re.MatchString("ada.fenwick@wrenmoor.example")
		}
	})
}

// listed are names with their values, as the cook-book writes them.
var (
	recipe = regexp.MustCompile("(?s)### ([^\n]+)\n\n```json\n(.*?)\n```\n\narrives (.*?)  \nbecomes ([^\n]*)\n")
	listed = regexp.MustCompile("`([^`]+)`: ((?:`[^`]*`(?:, )?)+)")
)

// Every recipe of the cook-book makes what it says.
func TestCookBook(t *testing.T) {
	octets, err := os.ReadFile("../../../docs/mapping.md")
	require.NoError(t, err)
	read := func(text string) map[string][]profile.Value {
		out := map[string][]profile.Value{}
		for _, m := range listed.FindAllStringSubmatch(text, -1) {
			for _, v := range strings.Split(m[2], ", `") {
				v = strings.Trim(v, "`, ")
				if strings.HasPrefix(v, "{") {
					out[m[1]] = append(out[m[1]], structure(t, v))
				} else {
					out[m[1]] = append(out[m[1]], profile.TextOf(v))
				}
			}
		}
		return out
	}
	all := recipe.FindAllStringSubmatch(string(octets), -1)
	require.Len(t, all, strings.Count(string(octets), "\n### "))
	require.GreaterOrEqual(t, len(all), 20)
	for _, m := range all {
		p := profile.Profile{}
		for name, values := range read(m[3]) {
			if name == "subject" {
				p.Subject.Value = values[0].String()
				continue
			}
			p.Attributes = append(p.Attributes, profile.Attribute{Name: name, Values: values})
		}
		got, err := mapping(t, m[2]).Run(p, profile.Release, false)
		require.NoError(t, err, m[1])
		made := map[string]string{}
		for _, a := range got.Attributes {
			made[a.Name] = profile.Joined(a.Values)
		}
		if got.Subject != nil {
			made["subject"] = got.Subject.Value
		}
		want := map[string]string{}
		for name, values := range read(m[4]) {
			want[name] = profile.Joined(values)
		}
		require.Equal(t, want, made, m[1])
	}
}
