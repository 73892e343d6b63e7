// Package rehearsal judges saved sign-in tests: what was expected of one, what came of it, and what usually lies
// behind what the tester saw. The crossing itself is that of package crossing; here its outcome is only read.
package rehearsal
