package exchange

import "context"

// What starts exchanges.
const (
	byPerson   = "person"
	byTimer    = "timer"
	byListener = "listener"
)

type startedKey struct{}

// started marks what an exchange is started by, for its log.
func started(ctx context.Context, by string) context.Context {
	return context.WithValue(ctx, startedKey{}, by)
}

func startedBy(ctx context.Context) string {
	if by, said := ctx.Value(startedKey{}).(string); said {
		return by
	}
	return byPerson
}
