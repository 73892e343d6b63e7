package federation

import (
	"innergate.example/innergate/internal/core/listed"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is said of matching is read once, and refused where it says nothing.
func TestMatchingIsRead(t *testing.T) {
	for say, m := range map[string]Matching{
		"": {MatchBy: listed.ParseWords("employeeNumber emails"),
			Update: listed.Equals.Parse("displayName emails=follow nickName=once"),
			AskFor: listed.Equals.Parse("displayName emails=verified"), VouchesFor: listed.ParseWords("a.example b-c.example")},
		"no way to keep emails":               {Update: listed.Equals.Parse("emails=never")},
		"named twice":                         {Update: listed.Equals.Parse("emails emails=follow")},
		"names no attribute":                  {AskFor: listed.Equals.Parse("=verified")},
		"cannot be verified by a mailed code": {AskFor: listed.Equals.Parse("displayName=verified")},
		"no way to ask":                       {AskFor: listed.Equals.Parse("emails=once")},
		"is said by groupValues":              {Update: listed.Equals.Parse("groups")},
		"is said by userType":                 {AskFor: listed.Equals.Parse("userType")},
		"is no name of an attribute":          {MatchBy: listed.ParseWords("emails=verified")},
		"use at most 5":                       {MatchBy: listed.ParseWords("a b c d e f")},
		"in small letters":                    {VouchesFor: listed.ParseWords("Wrenmoor.example")},
		"is no domain":                        {VouchesFor: listed.ParseWords("*.example")},
	} {
		err := m.check()
		if say == "" {
			require.NoError(t, err)
			require.Equal(t, []Updated{{"displayName", UpdateAlways}, {"emails", UpdateFollow}, {"nickName", UpdateOnce}},
				m.Updates())
			require.True(t, m.Vouches("x@A.example"))
			require.False(t, m.Vouches("x@sub.a.example"))
			require.False(t, m.Vouches("a.example"))
			continue
		}
		require.ErrorContains(t, err, say)
	}
}
