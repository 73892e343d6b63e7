package trace

import (
	"fmt"
	"innergate.example/innergate/internal/core/finding"
)

// Loss says in a line what somebody loses.
func (c Compared) Loss(who string) string {
	switch was, is := c.Before.Released, c.Now.Released; {
	case c.Shut:
		return fmt.Sprintf("%s: %s", who, finding.New(c.Now.Finding).Title)
	case was == nil || is == nil:
		return who + ", who would not be recognised"
	default:
		return fmt.Sprintf("%s: %s instead of %s", who, is.Name, was.Name)
	}
}
