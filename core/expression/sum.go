package expression

import (
	"math/big"
	"strconv"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// sumFunction adds sum(list) to the language, which has no way to add up a list of its own: the sum of its numbers, 0
// for an empty list. Nulls are left out.
var sumFunction = cel.Function("sum", cel.Overload("sum_list", []*cel.Type{cel.ListType(cel.DynType)}, cel.DoubleType,
	cel.UnaryBinding(sum)))

// sum adds exactly and rounds once, to the 15 decimal digits that a double always holds, so that the order of the
// numbers does not matter and amounts of money come out as people expect.
func sum(list ref.Val) ref.Val {
	const exact = 2200 // bits: enough for any doubles
	total := new(big.Float).SetPrec(exact)
	for it := list.(traits.Lister).Iterator(); it.HasNext() == types.True; {
		item := it.Next()
		if item.Type() == types.NullType {
			continue
		}
		number, ok := item.ConvertToType(types.DoubleType).(types.Double)
		if _, isText := item.(types.String); !ok || isText {
			return types.NewErr("sum needs numbers, not %s", item.Type().TypeName())
		}
		if number != number || number-number != 0 {
			return types.NewErr("sum needs finite numbers")
		}
		total.Add(total, new(big.Float).SetPrec(exact).SetFloat64(float64(number)))
	}
	whole, _ := total.Float64() // beyond the range it is an infinity, which JSON cannot hold: an error further on
	rounded, err := strconv.ParseFloat(strconv.FormatFloat(whole, 'g', 15, 64), 64)
	if err != nil {
		return types.NewErr("sum: %v", err)
	}
	return types.Double(rounded)
}
