// Package checks finds what can be known without a sign-in: over one record,
// over an application and the providers that serve it, and over a change before
// it is made. Nothing here asks the network; what the gate learns there on demand
// it says in the same terms.
//
//	all := checks.New(snapshot, now)
//	for _, f := range all.Record(app) {
//		fmt.Println(f.Severity, f.Title)
//	}
package checks
