package checks

import (
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// roles looks through the roles of an application, and whether people who are refused can ask anybody.
func (c *Checker) roles(l *List, a *federation.Application) {
	all := c.Snap.Book(a.Name).Roles
	if len(all) > 0 && a.Mapping().Casts() < 0 {
		l.Add(finding.New(finding.RoleUnsent, finding.Passing("Roles", strconv.Itoa(len(all)))))
	}
	written := map[string]string{} // a value as it is written, by how it is without its case
	var alike []string
	for _, r := range all {
		if r.Broken {
			l.Add(finding.New(finding.RoleBroken, finding.Fact("Role", string(r.Name)+": "+r.Title)))
		}
		for _, v := range r.Values {
			key := profile.Fold(v)
			if other, there := written[key]; there && other != v {
				alike = append(alike, other+" and "+v)
			}
			written[key] = v
		}
	}
	slices.Sort(alike)
	if alike = slices.Compact(alike); len(alike) > 0 {
		l.Add(finding.New(finding.RoleValuesAlike, finding.Fact("Values", strings.Join(alike, "; "))))
	}
	mailed := func(x federation.Answering) bool { return x.Mail != "" }
	if a.AskForEntry && !(c.Snap.Gate.Mails && slices.ContainsFunc(federation.Answers(a.Owner), mailed)) {
		l.Add(finding.New(finding.RequestUnmailed, finding.Fact("owner", a.Owner)))
	}
}
