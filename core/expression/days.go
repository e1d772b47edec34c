package expression

import (
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// daysFunction adds days(from, to) to the language, whose own times know no dates: how many days a date is after another,
// both as RFC 3339 writes them; fewer than none where it is before. Of a time, its date is taken as it is written.
var daysFunction = cel.Function("days", cel.Overload("days_text_text", []*cel.Type{cel.DynType, cel.DynType}, cel.IntType,
	cel.BinaryBinding(days)))

const dateLength = len(time.DateOnly)

func days(from, to ref.Val) ref.Val {
	var at [2]time.Time
	for n, value := range []ref.Val{from, to} {
		text, ok := value.(types.String)
		if !ok {
			return types.NewErr("days needs two dates, not %s", value.Type().TypeName())
		}
		date, err := time.Parse(time.DateOnly, string(text[:min(len(text), dateLength)]))
		if err != nil {
			return types.NewErr("days needs dates such as 2026-05-01, not %q", string(text))
		}
		at[n] = date
	}
	return types.Int(at[1].Sub(at[0]) / (24 * time.Hour))
}
