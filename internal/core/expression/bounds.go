package expression

import (
	"fmt"
	"strings"
	"sync"
	"unicode/utf8"

	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"
)

// mostMade is what a run may make, in octets: as one text, as its lists and maps together,
// and as its result.
const mostMade = 1 << 20

// errTooMuch ends a run; no || and no ?: goes on behind it.
var errTooMuch = interpreter.EvalCancelledError{Cause: interpreter.CostLimitExceeded,
	Message: fmt.Sprintf("it makes more than %d KiB", mostMade>>10)}

// meter is what a run may still make. It stands among the variables, under a name that no
// expression can write.
type meter struct{ left int }

const meterName = "@made"

// sizeOf is what a value takes as text, in octets, and a little for each member; it is
// counted no further than to a bound. A part that stands in it twice counts twice.
func sizeOf(v ref.Val, most int) int {
	const each = 8
	switch v := v.(type) {
	case types.String:
		return each + len(v)
	case types.Bytes:
		return each + len(v)
	case *types.Optional:
		if v.HasValue() {
			return sizeOf(v.GetValue(), most)
		}
	case traits.Lister:
		n := each
		for it := v.Iterator(); n < most && it.HasNext() == types.True; {
			n += sizeOf(it.Next(), most-n)
		}
		return n
	case traits.Mapper:
		n := each
		for it := v.Iterator(); n < most && it.HasNext() == types.True; {
			key := it.Next()
			n += sizeOf(key, most-n)
			n += sizeOf(v.Get(key), most-n)
		}
		return n
	}
	return each
}

// metered counts what lists and maps hold when they are made: parts are shared in memory, but
// whoever compares, writes out or gives back such a value goes through all of it.
func metered(step interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
	if c, ok := step.(interpreter.InterpretableConstructor); ok {
		return &made{c}, nil
	}
	return step, nil
}

type made struct {
	interpreter.InterpretableConstructor
}

// Exec makes the value, and counts it.
func (m *made) Exec(frame *interpreter.ExecutionFrame) ref.Val {
	out := m.InterpretableConstructor.Exec(frame)
	if meters, ok := frame.ResolveName(meterName); ok {
		left := meters.(*meter)
		if left.left -= sizeOf(out, left.left+1); left.left < 0 {
			panic(errTooMuch) // the way to end a run, as the limit of costs does
		}
	}
	return out
}

// octetCost charges calls for the octets that they go through and make, where CEL counts one.
type octetCost struct{}

// deep are the calls that go through all of a list or map.
var deep = map[string]bool{operators.Equals: true, operators.NotEquals: true, operators.In: true, "join": true,
	"format": true, "split": true}

// CallCost gives what a call costs in CEL's units, a tenth of an octet each; nil leaves it to CEL.
func (octetCost) CallCost(name, _ string, args []ref.Val, result ref.Val) *uint64 {
	n := 0
	for _, v := range append(args[:len(args):len(args)], result) {
		if _, list := v.(traits.Sizer); !list || deep[name] || v.Type() == types.StringType || v.Type() == types.BytesType {
			n += sizeOf(v, mostMade)
		}
	}
	if n < 256 {
		return nil
	}
	units := uint64(n) / 10
	return &units
}

// grows tells before a call how many octets it makes at most, of functions whose result may
// be longer than what they are given.
var grows = map[string]func(args []ref.Val) int{
	"replace": func(args []ref.Val) int {
		text, old, new := textOf(args[0]), textOf(args[1]), textOf(args[2])
		if old == "" {
			return len(text) + (utf8.RuneCountInString(text)+1)*len(new)
		}
		return len(text) + strings.Count(text, old)*len(new)
	},
	"join": func(args []ref.Val) int {
		n := sizeOf(args[0], mostMade+1)
		list, ok := args[0].(traits.Lister)
		if size, is := any(nil), false; ok && len(args) > 1 {
			if size, is = list.Size().Value(), true; is {
				count, _ := size.(int64)
				n += int(count) * len(textOf(args[1]))
			}
		}
		return n
	},
	"split":         func(args []ref.Val) int { return len(textOf(args[0])) * 8 },
	"strings.quote": func(args []ref.Val) int { return len(textOf(args[0])) * 4 },
	"format": func(args []ref.Val) int {
		const precise = 512 // a number with all its digits
		text := textOf(args[0])
		return len(text) + 2*sizeOf(args[1], mostMade+1) + strings.Count(text, "%")*precise
	},
}

func textOf(v ref.Val) string {
	s, _ := v.(types.String)
	return string(s)
}

// guarded are these functions with that looked at first.
var guarded = sync.OnceValues(func() ([]*functions.Overload, error) {
	env, err := environment()
	if err != nil {
		return nil, err
	}
	var out []*functions.Overload
	for name, most := range grows {
		bindings, err := env.Functions()[name].Bindings()
		if err != nil {
			return nil, err
		}
		for _, b := range bindings {
			out = append(out, guard(*b, most))
		}
	}
	return out, nil
})

// guard puts a bound before a function.
func guard(b functions.Overload, most func(args []ref.Val) int) *functions.Overload {
	look := func(args ...ref.Val) {
		if most(args) > mostMade {
			panic(errTooMuch)
		}
	}
	if unary := b.Unary; unary != nil {
		b.Unary = func(v ref.Val) ref.Val { look(v); return unary(v) }
	}
	if binary := b.Binary; binary != nil {
		b.Binary = func(v, w ref.Val) ref.Val { look(v, w); return binary(v, w) }
	}
	if function := b.Function; function != nil {
		b.Function = func(args ...ref.Val) ref.Val { look(args...); return function(args...) }
	}
	return &b
}

var _ interpreter.ActualCostEstimator = octetCost{}
