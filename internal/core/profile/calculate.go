package profile

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/expression"
)

// known is what expressions see of somebody, made once for all of them.
func (in *indexed) known() expression.Facts {
	if in.facts != nil {
		return *in.facts
	}
	f := expression.Facts{Subject: in.subject.text, NameFormat: in.format,
		Attributes: make(map[string][]any, len(in.by))}
	for name, i := range in.by {
		f.Attributes[name] = Natives(in.list[i].Values)
	}
	in.facts = &f
	return f
}

// Natives are values as an expression has them.
func Natives(values []Value) []any {
	out := make([]any, 0, len(values))
	for _, v := range values {
		out = append(out, v.native())
	}
	return out
}

// native is a value as an expression has it. A whole number that fits is one, others
// are of floating point.
func (v Value) native() any {
	switch v.kind {
	case Number:
		if n, err := strconv.ParseInt(v.text, 10, 64); err == nil {
			return n
		}
		n, _ := strconv.ParseFloat(v.text, 64) // out of range it is infinite
		return n
	case Boolean:
		return v.True()
	case Time:
		if at, ok := expression.Moment(v.text); ok {
			return at
		}
	case Structure:
		var members map[string]any
		if json.Unmarshal([]byte(v.text), &members) == nil {
			return members
		}
	}
	return v.text
}

// calculated are the values of an expression.
func (in *indexed) calculated(e *expression.Expression) ([]Value, error) {
	got, err := e.Run(in.known())
	if err != nil {
		return nil, err
	}
	if len(got) > mostValues {
		return nil, fmt.Errorf("it gives %d values; a rule makes at most %d", len(got), mostValues)
	}
	out := make([]Value, 0, len(got))
	octets := 0
	for _, one := range got {
		v, err := valueOf(one)
		if err != nil {
			return nil, err
		}
		if octets += len(v.text); len(v.text) > longest || octets > 16*longest {
			return nil, fmt.Errorf("its values are too long")
		}
		out = append(out, v)
	}
	return out, nil
}

func valueOf(x any) (Value, error) {
	switch x := x.(type) {
	case string:
		if strings.ContainsFunc(x, control) {
			return Value{}, fmt.Errorf("%.40q has control characters", x)
		}
		return TextOf(x), nil
	case bool:
		return BooleanOf(x), nil
	case time.Time:
		return TimeOf(x), nil
	}
	octets, err := json.Marshal(x)
	if err != nil {
		return Value{}, err
	}
	if v, ok := NumberOf(string(octets)); ok {
		return v, nil
	}
	return StructureOf(octets)
}
