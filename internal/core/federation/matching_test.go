package federation

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What is said of matching is read once, and refused where it says nothing.
func TestMatchingIsRead(t *testing.T) {
	for say, m := range map[string]Matching{
		"":                                    {MatchBy: "employeeNumber emails", Update: "displayName emails=follow nickName=once", AskFor: "displayName emails=verified", VouchesFor: "a.example b-c.example"},
		"no way to keep emails":               {Update: "emails=never"},
		"named twice":                         {Update: "emails emails=follow"},
		"names no attribute":                  {AskFor: "=verified"},
		"cannot be verified by a mailed code": {AskFor: "displayName=verified"},
		"no way to ask":                       {AskFor: "emails=once"},
		"is said by groupValues":              {Update: "groups"},
		"is said by userType":                 {AskFor: "userType"},
		"is no name of an attribute":          {MatchBy: "emails=verified"},
		"use at most 5":                       {MatchBy: "a b c d e f"},
		"in small letters":                    {VouchesFor: "Wrenmoor.example"},
		"is no domain":                        {VouchesFor: "*.example"},
	} {
		err := m.check()
		if say == "" {
			require.NoError(t, err)
			require.Equal(t, []Updated{{"displayName", UpdateAlways}, {"emails", UpdateFollow}, {"nickName", UpdateOnce}}, m.Updates())
			require.True(t, m.Vouches("x@A.example"))
			require.False(t, m.Vouches("x@sub.a.example"))
			require.False(t, m.Vouches("a.example"))
			continue
		}
		require.ErrorContains(t, err, say)
	}
}
