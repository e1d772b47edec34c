package expression

import (
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
)

// unshared are the functions that a device in a browser does not have, or works out otherwise, with what to write
// instead. The vectors hold that all others come to the same.
var unshared = map[string]string{
	"bytes":              "texts do",
	"math.bitAnd":        "",
	"math.bitOr":         "",
	"math.bitXor":        "",
	"math.bitNot":        "",
	"math.bitShiftLeft":  "",
	"math.bitShiftRight": "",
}

// checkShared refuses what a device in a browser could not evaluate alike.
func checkShared(text string, compiled *cel.Ast) error {
	tree := compiled.NativeRep()
	var found error
	refuse := func(what, instead string) {
		if found != nil {
			return
		}
		found = fmt.Errorf("%q: %s is not the same on every device", text, what)
		if instead != "" {
			found = fmt.Errorf("%w: %s", found, instead)
		}
	}
	ast.PreOrderVisit(tree.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.StructKind:
			refuse("a message such as "+e.AsStruct().TypeName(), "")
		case ast.LiteralKind:
			if e.AsLiteral().Type() == cel.BytesType {
				refuse("a text in bytes", "texts do")
			}
		case ast.CallKind:
			call := e.AsCall()
			// Macros of the math functions are written out as @min and @max, which all devices have.
			instead, is := unshared[call.FunctionName()]
			switch overloads := tree.ReferenceMap()[e.ID()]; {
			case is:
				refuse(call.FunctionName(), instead)
			case call.FunctionName() == "matches" && !call.IsMemberFunction():
				refuse("matches(text, pattern)", "write text.matches(pattern)")
			case overloads != nil && call.FunctionName() == "getMilliseconds" && slices.ContainsFunc(overloads.OverloadIDs, func(id string) bool { return strings.HasPrefix(id, "duration") }):
				refuse("getMilliseconds of a duration", "compare durations, or take timestamp(…).getMilliseconds()")
			}
		}
	}))
	switch given := compiled.OutputType(); {
	case found != nil:
	case slices.ContainsFunc([]*cel.Type{cel.BytesType, cel.DurationType, cel.TimestampType}, given.IsExactType):
		refuse("a value of the type "+cel.FormatCELType(given), "give a text, such as string(…)")
	}
	return found
}
