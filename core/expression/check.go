package expression

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"
)

// Kind is what a member of a variable holds, as far as an expression needs to know it.
type Kind int

// The kinds. Every value may be null, but for those that always have one.
const (
	Any Kind = iota
	Text
	Number
	YesNo
	TextList
	AlwaysText
	AlwaysTextList
)

// Members are the members of an object by name.
type Members map[string]Kind

// Variable is a variable of an expression: an object, lists of objects by name, or a text.
type Variable struct {
	Members Members
	Lists   map[string]Members // what children.NAME holds, nil where it is not known; Members are not looked at then
	Text    bool               // it is a text, and has neither
}

func (k Kind) declared() *cel.Type {
	switch k {
	case Text:
		return cel.NullableType(cel.StringType)
	case Number:
		return cel.NullableType(cel.DoubleType)
	case YesNo:
		return cel.NullableType(cel.BoolType)
	case AlwaysText:
		return cel.StringType
	case AlwaysTextList:
		return cel.ListType(cel.StringType)
	}
	return cel.DynType // a list or an object may be null as well, which CEL has no type for
}

// Gives says what an expression is to give.
type Gives int

// What expressions give.
const (
	Value  Gives = iota // anything that JSON holds
	Choice              // true or false
	Keys                // a text, a list of texts, or null
)

// objects knows the members of the objects of an expression.
type objects struct {
	types.Provider
	members map[string]map[string]*cel.Type
}

func (o objects) FindStructType(name string) (*types.Type, bool) {
	if _, known := o.members[name]; known {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return o.Provider.FindStructType(name)
}

func (o objects) FindStructFieldNames(name string) ([]string, bool) {
	all, known := o.members[name]
	if !known {
		return o.Provider.FindStructFieldNames(name)
	}
	var names []string
	for member := range all {
		names = append(names, member)
	}
	slices.Sort(names)
	return names, true
}

func (o objects) FindStructFieldType(name, member string) (*types.FieldType, bool) {
	all, known := o.members[name]
	if !known {
		return o.Provider.FindStructFieldType(name, member)
	}
	kind, known := all[member]
	if !known {
		return nil, false
	}
	return &types.FieldType{Type: kind}, true
}

var undefined = regexp.MustCompile(`undefined field '([^']*)'`)

// Check says what is wrong with an expression that [Compile] takes: members that its variables do not have, values of
// kinds that do not go together, functions that not every device has, another result than is wanted. Nearest suggests one of several names for a wrong one.
func Check(text string, variables map[string]Variable, gives Gives, nearest func(wrong string, names []string) string) error {
	base, err := types.NewRegistry()
	if err != nil {
		return err
	}
	o := objects{base, map[string]map[string]*cel.Type{}}
	options := []cel.EnvOption{cel.CrossTypeNumericComparisons(true), ext.Strings(), ext.Math(), sumFunction, daysFunction}
	names := []string{}
	object := func(name string, members Members) *cel.Type {
		o.members[name] = map[string]*cel.Type{}
		for member, kind := range members {
			o.members[name][member] = kind.declared()
			names = append(names, member)
		}
		return cel.ObjectType(name)
	}
	for name, v := range variables {
		if v.Text {
			options = append(options, cel.Variable(name, cel.StringType))
			continue
		}
		declared := "homing." + name
		if v.Lists == nil {
			options = append(options, cel.Variable(name, object(declared, v.Members)))
			continue
		}
		o.members[declared] = map[string]*cel.Type{}
		for list, members := range v.Lists {
			of := cel.DynType
			if members != nil {
				of = object(declared+"."+list, members)
			}
			o.members[declared][list] = cel.ListType(of)
			names = append(names, list)
		}
		options = append(options, cel.Variable(name, cel.ObjectType(declared)))
	}
	env, err := cel.NewEnv(append(options, cel.CustomTypeProvider(o))...)
	if err != nil {
		return err
	}
	ast, issues := env.Compile(text)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		message := strings.TrimSpace(first.Message)
		if at := undefined.FindStringSubmatch(message); at != nil {
			message = fmt.Sprintf("there is no field %q", at[1]) + nearest(at[1], names)
		} else if strings.Contains(message, "no matching overload") && strings.Contains(message, "double") && strings.Contains(message, "int") {
			message = "numbers of records are doubles: write 2.0 for 2 where you calculate"
		}
		return fmt.Errorf("%q, character %d: %s", text, first.Location.Column()+1, message)
	}
	if err := checkShared(text, ast); err != nil {
		return err
	}
	result := ast.OutputType()
	fits := map[Gives][]*cel.Type{
		Choice: {cel.BoolType, cel.DynType, cel.NullableType(cel.BoolType)},
		Keys:   {cel.StringType, cel.DynType, cel.NullableType(cel.StringType), cel.ListType(cel.StringType), cel.ListType(cel.DynType), cel.NullType},
	}[gives]
	if gives != Value && !slices.ContainsFunc(fits, func(t *cel.Type) bool { return t.IsExactType(result) }) {
		want := map[Gives]string{Choice: "true or false", Keys: "a text or a list of texts"}[gives]
		return fmt.Errorf("%q gives %s, and must give %s", text, cel.FormatCELType(result), want)
	}
	return nil
}
