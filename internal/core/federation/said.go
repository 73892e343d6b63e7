package federation

import (
	"fmt"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/expression"
)

// said reads the settings of an object of its own kind, and keeps the first error, which is a SettingError.
type said struct {
	Settings
	err error
}

func saidBy(p *Plain) *said { return &said{Settings: p.Settings()} }

// bad notes what is wrong with a setting; nothing if err is nil.
func (s *said) bad(field string, err error) {
	if s.err == nil && err != nil {
		s.err = &SettingError{field, err}
	}
}

func (s *said) text(name string) string {
	v, _ := s.Settings[name].(string)
	return strings.TrimSpace(v)
}

func (s *said) is(name string) bool {
	v, _ := s.Settings[name].(bool)
	return v
}

// place reads the setting order, 0 for none.
func (s *said) place() int {
	t := s.text("order")
	if t == "" {
		return 0
	}
	n, err := strconv.Atoi(t)
	if err != nil || n < 0 {
		s.bad("order", fmt.Errorf("%q is no place; give a whole number, like 10", t))
	}
	return n
}

// people reads numbers of accounts.
func (s *said) people() (out []int64) {
	for _, t := range listOf[string](s.Settings, "people") {
		n, err := strconv.ParseInt(t, 10, 64)
		if out = append(out, n); err != nil || n < 1 {
			s.bad("people", fmt.Errorf("%q is no number of a person", t))
		}
	}
	return out
}

// condition reads an expression over attributes, nil for none.
func (s *said) condition(field string) *expression.Expression {
	text := s.text(field)
	if text == "" {
		return nil
	}
	e, err := expression.Compile(text, expression.Condition)
	s.bad(field, err)
	return e
}
