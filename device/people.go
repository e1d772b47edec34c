package device

import "context"

// People gives the workers of this device, whoever enrolled it first.
func (s *Store) People(ctx context.Context) ([]Worker, error) {
	return s.keeper.People(ctx)
}

// SetSecret gives whoever is signed in a PIN or password. Old is the one before; it is not looked at when there was
// none.
func (s *Store) SetSecret(ctx context.Context, old, secret string) error {
	return s.keeper.SetSecret(ctx, old, secret)
}

// SignIn signs a worker of this device in, in signal or not. Whoever was signed in is signed out by it.
func (s *Store) SignIn(ctx context.Context, name, secret string) error {
	return s.keeper.SignIn(ctx, name, secret)
}

// SignOut signs out whoever is signed in. Nothing is deleted: what they have not sent stays, sealed for its author,
// and still goes to central with any exchange. It gives the number of these changes. Somebody without a PIN or
// password cannot sign out, since nothing would keep others from their changes.
func (s *Store) SignOut(ctx context.Context) (unsent int, err error) {
	return s.keeper.SignOut(ctx)
}

// Join lets a further worker use this device, with a one-time code of theirs. It needs signal; signing in later does
// not. Secret is the PIN or password that they will sign in with.
func (s *Store) Join(ctx context.Context, code, secret string) (string, error) {
	return s.keeper.Join(ctx, code, secret)
}
