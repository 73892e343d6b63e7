// Package expression compiles and runs conditions and values in CEL, the Common
// Expression Language, for rules that need more than plain steps.
//
//	e, err := expression.Compile(`attributes.groups.exists(g, g.startsWith("wm-"))`, expression.Condition)
//	is, err := e.Run(expression.Facts{Subject: "ada", Attributes: of})
//
// An expression sees these variables:
//
//	subject     text: NameID or sub
//	nameFormat  text: the NameID's format, "" for none
//	attributes  map from an attribute's name, or friendly name, to the list of its values
//
// Beside what CEL has of its own there are its string extensions and optional values
// (attributes[?"mail"]). It reaches nothing outside itself; what it may cost and what it may
// make, at every step, is bounded in octets.
package expression

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
)

// Kind is what an expression is for.
type Kind int

// Kinds.
const (
	Condition Kind = iota // gives true or false
	Values                // gives a value, or a list of them
)

// Bounds of expressions.
const (
	longest  = 4000    // of its text, in octets
	mostCost = 200_000 // of one run, in CEL's units
)

// Expression is compiled, and never changes.
type Expression struct {
	program cel.Program
	// Reads are the attributes that it names; nil with Everything.
	Reads      []string
	Everything bool // it reads attributes that it does not name
}

// Facts are what it is run on.
type Facts struct {
	Subject, NameFormat string
	// Attributes are lists of string, int64, float64, bool, time.Time and map[string]any.
	Attributes map[string][]any
}

// environment has no state: it is the language, made when it is first wanted.
var environment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(cel.Variable("subject", cel.StringType), cel.Variable("nameFormat", cel.StringType),
		cel.Variable("attributes", cel.MapType(cel.StringType, cel.ListType(cel.DynType))),
		cel.OptionalTypes(), ext.Strings(ext.StringsVersion(4), ext.StringsMaxPrecision(100)),
		cel.ParserExpressionSizeLimit(longest),
		cel.ParserRecursionLimit(40))
})

// Compile reads an expression. The error says where it is wrong.
func Compile(text string, kind Kind) (*Expression, error) {
	if len(text) > longest {
		return nil, fmt.Errorf("the expression has %d octets; at most %d", len(text), longest)
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	tree, issues := env.Compile(text)
	if issues != nil && len(issues.Errors()) > 0 {
		e := issues.Errors()[0]
		return nil, fmt.Errorf("the expression does not compile at line %d, character %d: %s", e.Location.Line(),
			e.Location.Column()+1, strings.Join(strings.Fields(e.Message), " "))
	}
	if out := tree.OutputType(); kind == Condition && !out.IsExactType(cel.BoolType) && !out.IsExactType(cel.DynType) {
		return nil, fmt.Errorf("the condition gives %s; it is to give true or false, as by == or exists()", out)
	}
	guards, err := guarded()
	if err != nil {
		return nil, err
	}
	program, err := env.Program(tree, cel.CostLimit(mostCost), cel.CostTracking(octetCost{}), cel.Functions(guards...),
		cel.CustomDecoratorV2(metered), cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return nil, fmt.Errorf("the expression cannot be run: %w", err)
	}
	e := &Expression{program: program}
	e.find(tree.NativeRep().Expr())
	return e, nil
}

// Run gives its values: one, or those of a list. An attribute that is not there, or that
// has fewer values, is an error, and so is what costs too much.
func (e *Expression) Run(f Facts) ([]any, error) {
	out, _, err := e.program.Eval(map[string]any{"subject": f.Subject, "nameFormat": f.NameFormat,
		"attributes": f.Attributes, meterName: &meter{mostMade}})
	if err != nil {
		return nil, errors.New(strings.TrimPrefix(err.Error(), "eval: "))
	}
	if sizeOf(out, mostMade+1) > mostMade {
		return nil, errTooMuch
	}
	return natives(out)
}

// True runs a condition.
func (e *Expression) True(f Facts) (bool, error) {
	out, err := e.Run(f)
	if err != nil || len(out) != 1 {
		return false, err
	}
	is, ok := out[0].(bool)
	if !ok {
		return false, fmt.Errorf("the condition gave %v, which is neither true nor false", out[0])
	}
	return is, nil
}

// natives are what a result holds, as Go has it.
func natives(v ref.Val) ([]any, error) {
	switch v := v.(type) {
	case *types.Optional:
		if !v.HasValue() {
			return nil, nil
		}
		return natives(v.GetValue())
	case types.Null:
		return nil, nil
	case traits.Lister:
		var out []any
		for it := v.Iterator(); it.HasNext() == types.True; {
			one, err := natives(it.Next())
			if err != nil {
				return nil, err
			}
			out = append(out, one...)
		}
		return out, nil
	case traits.Mapper:
		out := map[string]any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			name, ok := key.(types.String)
			one, err := natives(v.Get(key))
			if !ok || err != nil {
				return nil, errors.Join(err, errors.New("a member's name is no text"))
			}
			if out[string(name)] = any(one); len(one) == 1 {
				out[string(name)] = one[0]
			}
		}
		return []any{out}, nil
	case types.Timestamp:
		return []any{v.Time}, nil
	case types.Duration:
		return []any{v.Duration.String()}, nil
	case types.String, types.Int, types.Uint, types.Double, types.Bool:
		return []any{v.Value()}, nil
	}
	return nil, fmt.Errorf("it gave a %s, which is no value", v.Type().TypeName())
}

// find notes which attributes it reads.
func (e *Expression) find(x ast.Expr) {
	named := func(of, name ast.Expr) bool {
		if of.Kind() != ast.IdentKind || of.AsIdent() != "attributes" || name.Kind() != ast.LiteralKind {
			return false
		}
		text, ok := name.AsLiteral().(types.String)
		e.reads(string(text))
		return ok
	}
	switch x.Kind() {
	case ast.IdentKind:
		if x.AsIdent() == "attributes" {
			e.Everything = true
		}
	case ast.SelectKind:
		s := x.AsSelect()
		if of := s.Operand(); of.Kind() == ast.IdentKind && of.AsIdent() == "attributes" {
			e.reads(s.FieldName())
			return
		}
		e.find(s.Operand())
	case ast.CallKind:
		c := x.AsCall()
		args := c.Args()
		switch c.FunctionName() {
		case operators.Index, operators.OptIndex, operators.OptSelect:
			if named(args[0], args[1]) {
				return
			}
		case operators.In:
			if named(args[1], args[0]) {
				return
			}
		}
		if c.IsMemberFunction() {
			e.find(c.Target())
		}
		for _, a := range args {
			e.find(a)
		}
	case ast.ListKind:
		for _, a := range x.AsList().Elements() {
			e.find(a)
		}
	case ast.MapKind:
		for _, a := range x.AsMap().Entries() {
			e.find(a.AsMapEntry().Key())
			e.find(a.AsMapEntry().Value())
		}
	case ast.ComprehensionKind:
		c := x.AsComprehension()
		for _, a := range []ast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
			e.find(a)
		}
	}
}

func (e *Expression) reads(name string) { e.Reads = append(e.Reads, name) }

// Moment is how a time reads in an expression.
func Moment(text string) (time.Time, bool) {
	at, err := time.Parse(time.RFC3339Nano, text)
	return at, err == nil
}
