// Package expression evaluates CEL expressions (the Common Expression Language, an open specification) over records and
// workers. Definitions use them for rights, territories and
// values that are worked out. An expression that is too dear is broken off at a fixed cost, not
// after a time, so that it ends the same way at central and on every device.
package expression

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"

	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/types/known/structpb"

	"homing/core/record"
)

// Bounds on one expression.
const (
	maxLength = 4000   // characters
	maxCost   = 100000 // CEL's own units: about one for each operation, more for long texts and lists
	// Totals go over many children: about ten units for each, so that a hundred thousand of them can be added up.
	maxTotalCost = 2000000
)

// ErrResult reports an expression whose result is not of the kind that is needed.
var ErrResult = errors.New("the expression gives another kind of value")

// ErrTooDear reports an expression that was broken off.
var ErrTooDear = errors.New("the expression runs too long and was broken off; make it simpler")

// Program is a compiled expression. It is safe for use by several goroutines.
type Program struct {
	text    string
	program cel.Program
	ast     *cel.Ast
}

var environments sync.Map // of *cel.Env by the names of the variables: making one is dear

// Compile reads an expression over the named variables, each of which is an object, but for today and id, which are texts.
func Compile(text string, variables ...string) (*Program, error) {
	if len(text) > maxLength {
		return nil, fmt.Errorf("the expression has %d characters; at most %d", len(text), maxLength)
	}
	env, err := environment(variables)
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		first := issues.Errors()[0]
		return nil, fmt.Errorf("%q, character %d: %s", text, first.Location.Column()+1, strings.TrimSpace(first.Message))
	}
	limit := uint64(maxCost)
	p := &Program{text: text, ast: ast}
	if len(p.Members("children")) > 0 {
		limit = maxTotalCost
	}
	if p.program, err = env.Program(ast, cel.CostLimit(limit), cel.EvalOptions(cel.OptOptimize)); err != nil {
		return nil, fmt.Errorf("%q: %w", text, err)
	}
	return p, nil
}

// Members are the members of a variable that the expression asks for, such as b for a.b, in order.
func (p *Program) Members(variable string) []string {
	var names []string
	ast.PreOrderVisit(p.ast.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.SelectKind && e.AsSelect().Operand().Kind() == ast.IdentKind &&
			e.AsSelect().Operand().AsIdent() == variable {
			names = append(names, e.AsSelect().FieldName())
		}
	}))
	slices.Sort(names)
	return slices.Compact(names)
}

// Uses says whether the expression asks for a variable.
func (p *Program) Uses(variable string) bool {
	uses := false
	ast.PreOrderVisit(p.ast.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		uses = uses || e.Kind() == ast.IdentKind && e.AsIdent() == variable
	}))
	return uses
}

func environment(variables []string) (*cel.Env, error) {
	key := strings.Join(variables, " ")
	if known, ok := environments.Load(key); ok {
		return known.(*cel.Env), nil
	}
	options := []cel.EnvOption{cel.CrossTypeNumericComparisons(true), ext.Strings(), ext.Math(), sumFunction, daysFunction}
	for _, name := range variables {
		switch name {
		case "before", "after": // null for an add or a removal
			options = append(options, cel.Variable(name, cel.DynType))
		case "today", "id":
			options = append(options, cel.Variable(name, cel.StringType))
		default:
			options = append(options, cel.Variable(name, cel.MapType(cel.StringType, cel.DynType)))
		}
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, err
	}
	environments.Store(key, env)
	return env, nil
}

// String is the expression as it was written.
func (p *Program) String() string { return p.text }

func (p *Program) eval(variables map[string]any) (ref.Val, error) {
	result, _, err := p.program.Eval(variables)
	if err != nil && strings.Contains(err.Error(), "cost limit exceeded") { // the library has no value for it
		return nil, fmt.Errorf("%w: %q", ErrTooDear, p.text)
	}
	if err != nil {
		return nil, fmt.Errorf("%q: %w", p.text, err)
	}
	return result, nil
}

// Bool gives the result of an expression that says yes or no.
func (p *Program) Bool(variables map[string]any) (bool, error) {
	result, err := p.eval(variables)
	if err != nil {
		return false, err
	}
	yes, ok := result.(types.Bool)
	if !ok {
		return false, fmt.Errorf("%w: %q gives %s, not true or false", ErrResult, p.text, result.Type().TypeName())
	}
	return bool(yes), nil
}

// Texts gives the result of an expression that names something: a text, a list of texts, or null for none.
func (p *Program) Texts(variables map[string]any) ([]string, error) {
	result, err := p.eval(variables)
	if err != nil {
		return nil, err
	}
	switch value := result.(type) {
	case types.String:
		return []string{string(value)}, nil
	case types.Null:
		return nil, nil
	case traits.Lister:
		var texts []string
		for it := value.Iterator(); it.HasNext() == types.True; {
			text, ok := it.Next().(types.String)
			if !ok {
				return nil, fmt.Errorf("%w: %q gives a list of something other than texts", ErrResult, p.text)
			}
			texts = append(texts, string(text))
		}
		return texts, nil
	}
	return nil, fmt.Errorf("%w: %q gives %s, not a text or a list of texts", ErrResult, p.text, result.Type().TypeName())
}

// JSON gives the result of an expression as JSON; null when it is no value.
func (p *Program) JSON(variables map[string]any) (json.RawMessage, error) {
	result, err := p.eval(variables)
	if err != nil {
		return nil, err
	}
	value, err := result.ConvertToNative(reflect.TypeFor[*structpb.Value]())
	if err != nil {
		return nil, fmt.Errorf("%w: %q gives %s, which JSON cannot hold", ErrResult, p.text, result.Type().TypeName())
	}
	return protojson.Marshal(value.(*structpb.Value))
}

// Values makes fields ready for an expression: numbers as CEL doubles, and null for each named field without a value,
// so that an expression may ask for any field of the definition.
func Values(fields record.Fields, names []string) (map[string]any, error) {
	values, err := fields.Value()
	if err != nil {
		return nil, err
	}
	for name, value := range values {
		values[name] = doubles(value)
	}
	for _, name := range names {
		if _, has := values[name]; !has {
			values[name] = nil
		}
	}
	return values, nil
}

func doubles(value any) any {
	switch v := value.(type) {
	case interface{ Float64() (float64, error) }:
		if f, err := v.Float64(); err == nil {
			return f
		}
	case []any:
		for n := range v {
			v[n] = doubles(v[n])
		}
	case map[string]any:
		for name := range v {
			v[name] = doubles(v[name])
		}
	}
	return value
}
