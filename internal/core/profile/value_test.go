package profile

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What is stored of values is read back as what it was, digit by digit; texts
// stand there as they did before values had types.
func TestValuesKeepTheirType(t *testing.T) {
	whole, ok := NumberOf("12345678901234567890")
	require.True(t, ok)
	exact, ok := NumberOf("-1.50e+3")
	require.True(t, ok)
	card, err := StructureOf([]byte(`{ "street":"Dock Row 1",  "n": 1.0, "more": [ {"a": null}, true ] }`))
	require.NoError(t, err)
	at := time.Date(2026, 11, 26, 8, 0, 0, 5e6, time.FixedZone("CET", 3600))
	for _, c := range []struct {
		value      Value
		kind       Type
		text, json string
	}{
		{Value{}, Text, "", `""`},
		{TextOf("true"), Text, "true", `"true"`},
		{TextOf("Petrák <ž>\n"), Text, "Petrák <ž>\n", `"Petrák \u003cž\u003e\n"`},
		{whole, Number, "12345678901234567890", "12345678901234567890"},
		{exact, Number, "-1.50e+3", "-1.50e+3"},
		{BooleanOf(true), Boolean, "true", "true"},
		{BooleanOf(false), Boolean, "false", "false"},
		{TimeOf(at), Time, "2026-11-26T07:00:00.005Z", `{"time":"2026-11-26T07:00:00.005Z"}`},
		{card, Structure, `{"street":"Dock Row 1","n":1.0,"more":[{"a":null},true]}`,
			`{"structure":{"street":"Dock Row 1","n":1.0,"more":[{"a":null},true]}}`},
	} {
		require.Equal(t, []any{c.kind, c.text}, []any{c.value.Type(), c.value.String()})
		octets, err := json.Marshal(c.value)
		require.NoError(t, err)
		require.Equal(t, c.json, string(octets))
		var back Value
		require.NoError(t, json.Unmarshal(octets, &back))
		require.True(t, back == c.value, "%s: %v", c.json, back)
	}
	require.False(t, TextOf("1") == whole)
	require.Equal(t, "a, b", Joined(Texts("a", "b")))
}

func TestWhatIsNoValue(t *testing.T) {
	for _, bad := range []string{"", "+5", "007", ".5", "5.", "1e", "0x1", "NaN", "Infinity", "1 ", "--1",
		strings.Repeat("1", 1001)} {
		_, ok := NumberOf(bad)
		require.False(t, ok, bad)
	}
	for _, bad := range []string{`[]`, `"x"`, `{`, `{"a":1,"a":2}`, `{"a":{"b":1,"b":1}}`, `{"a":[{"b":1,"b":1}]}`,
		`{"a":1} {}`,
		`{"a":01}`, `{"a":` + strings.Repeat("[", 20) + strings.Repeat("]", 20) + `}`} {
		_, err := StructureOf([]byte(bad))
		require.Error(t, err, bad)
	}
	for _, bad := range []string{`null`, `[]`, `{}`, `{"time":1}`, `{"structure":[]}`, `{"structure":{"a":1,"a":1}}`,
		`{"struCture":{}}`, `{"Time":"2026-11-26T07:00:00Z"}`, `{"time":null}`, `{"structure":{},"time":null}`,
		`{"structure":{},"structure":{}}`,
		`1e`} {
		require.Error(t, json.Unmarshal([]byte(bad), &Value{}), bad)
	}
}

// A structure is the same octets before and after it was stored, inside whatever is stored.
func TestStructuresStayTheSameOctets(t *testing.T) {
	for _, given := range []string{`{"a":"<b> & \u2028"}`, `{"a":"\u003cb\u003E \u0026 \u2029"}`, `{"a":"\\\\u0026"}`,
		`{"a":"\\u00e4\\n\\\"&"}`,
		`{"<&>":1.50}`} {
		v, err := StructureOf([]byte(given))
		require.NoError(t, err)
		for range 3 {
			octets, err := json.Marshal([]Attribute{{Name: "x", Values: []Value{v}}})
			require.NoError(t, err)
			var again []Attribute
			require.NoError(t, json.Unmarshal(octets, &again))
			require.Equal(t, v, again[0].Values[0])
		}
		var before, after any
		require.NoError(t, json.Unmarshal([]byte(given), &before))
		require.NoError(t, json.Unmarshal([]byte(v.String()), &after))
		require.Equal(t, before, after, "it says the same")
	}
}

// FuzzValue: what is read as a value is written and read again as the same one.
func FuzzValue(f *testing.F) {
	for _, s := range []string{`"x"`, `1.0`, `true`, `{"time":"2026-11-26T07:00:00Z"}`,
		`{"structure":{"a":[1,{"b":null}]}}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var v, again Value
		if json.Unmarshal(data, &v) != nil {
			return
		}
		octets, err := json.Marshal(v)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(octets, &again))
		require.Equal(t, v, again)
	})
}

// A name is chosen by the kind that is wanted, or it is said why there is none.
func TestNamesAreChosenAtRelease(t *testing.T) {
	given := Subject{Format: "f:mail", NameQualifier: "q", Value: "ada@wrenmoor.example"}
	mail := func(values ...string) []Attribute { return []Attribute{{Name: "mail", Values: Texts(values...)}} }
	for _, c := range []struct {
		rule   string
		given  Subject
		more   []Attribute
		want   Wanted
		known  string
		name   Name
		cannot string
	}{
		{"as the provider has it", given, nil, Wanted{Kind: Given}, "", Name{Kind: Given, Subject: given}, ""},
		{"its value alone", given, nil, Wanted{Kind: Bare}, "", Name{Kind: Bare, Subject: Subject{Value: given.Value}}, ""},
		{"another one each time", given, nil, Wanted{Kind: Passing}, "kept", Name{Kind: Passing}, ""},
		{"to be derived", given, nil, Wanted{Kind: Lasting, For: "urn:app"}, "", Name{Kind: Lasting, For: "urn:app"}, ""},
		{"known by it", given, nil, Wanted{Kind: Lasting, For: "urn:app"}, "kept",
			Name{Kind: Lasting, Subject: Subject{Value: "kept"}}, ""},
		{"nothing lasts", Subject{Value: "x", Transient: true}, nil, Wanted{Kind: Lasting}, "", Name{}, "transient"},
		{"the name is an address", given, nil, Wanted{Kind: Mail, As: "f:mail"}, "", Name{Kind: Mail, Subject: given}, ""},
		{"an attribute is", Subject{Value: "0017"}, mail("a@x.example"), Wanted{Kind: Mail, As: "f:mail"}, "",
			Name{Kind: Mail, Subject: Subject{Value: "a@x.example"}}, ""},
		{"two are", Subject{Value: "0017"}, mail("a@x.example", "b@x.example"), Wanted{Kind: Mail}, "", Name{}, "no e-mail"},
		{"none is", Subject{Value: "0017"}, mail("0017"), Wanted{Kind: Mail}, "", Name{}, "no e-mail"},
		{"a kind that there is not", given, nil, Wanted{Kind: Unoffered, Word: "urn:x"}, "", Name{}, "does not offer"},
	} {
		t.Run(c.rule, func(t *testing.T) {
			n, cause := PassThrough(c.given, c.more).Name(c.want, c.known)
			if c.cannot != "" {
				require.Contains(t, cause, c.cannot)
				return
			}
			require.Empty(t, cause)
			require.Equal(t, c.name, n)
		})
	}
}
