package finding

// Check is one thing that was looked at: what, what was found, and the finding
// if it was not in order. A trace shows all of them, the good ones too.
type Check struct {
	What    string   `json:"what"`
	Found   string   `json:"found,omitempty"`
	Finding *Finding `json:"finding,omitempty"`
}

// Checks gathers what was looked at, in order.
type Checks []Check

// Pass records that something is in order.
func (c *Checks) Pass(what, found string) { *c = append(*c, Check{What: what, Found: found}) }

// Note records a finding that does not refuse.
func (c *Checks) Note(what string, f *Finding) {
	*c = append(*c, Check{What: what, Finding: f})
}

// Fail records a refusal and returns it as error. An error that is no finding
// is passed on unrecorded.
func (c *Checks) Fail(what string, err error) error {
	if f := Of(err); f != nil {
		*c = append(*c, Check{What: what, Finding: f})
	}
	return err
}
