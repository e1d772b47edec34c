package device

import (
	"context"

	"github.com/google/uuid"

	"homing/core/definition"
)

// Collections gives what the device holds, by name.
func (s *Store) Collections(ctx context.Context) ([]CollectionStatus, error) {
	return s.keeper.Collections(ctx)
}

// Collection gives the definition that the device has of a collection, compiled.
func (s *Store) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	return s.keeper.Collection(ctx, name)
}

// Children lists the records of a child collection that belong to a record, in the order of sort, a page of limit
// records from offset.
func (s *Store) Children(ctx context.Context, of Record, child, sort string, limit, offset int) (Found, error) {
	return s.keeper.Children(ctx, of, child, sort, limit, offset)
}

// AllChildren lists the first records of every collection whose parent is that of the record, by collection.
func (s *Store) AllChildren(ctx context.Context, of Record) (map[string]Found, error) {
	return s.keeper.AllChildren(ctx, of)
}

// GoesWith counts the records on this device that the removal of a record would take with it.
func (s *Store) GoesWith(ctx context.Context, of Record) (int, error) {
	return s.keeper.GoesWith(ctx, of)
}

// Find lists the records of a collection that fit a question, a page at a time.
func (s *Store) Find(ctx context.Context, collection string, ask Ask) (Found, error) {
	return s.keeper.Find(ctx, collection, ask)
}

// Get gives one record.
func (s *Store) Get(ctx context.Context, collection string, id uuid.UUID) (Record, error) {
	return s.keeper.Get(ctx, collection, id)
}

// Resolve finds the id of the record that a text means: its id, the start or the end of it, or its label if only one
// record has it.
func (s *Store) Resolve(ctx context.Context, collection, text string) (uuid.UUID, error) {
	return s.keeper.Resolve(ctx, collection, text)
}

// LookUp asks central, so it needs signal: for collections that devices keep on demand or never. What is kept on
// demand stays here and is found without signal from then on. The arguments are those of [Store.Find].
func (s *Store) LookUp(ctx context.Context, collection string, want Ask) (Found, error) {
	return s.keeper.LookUp(ctx, collection, want)
}

// Coverage says which places have reported for which periods, against what is expected, as far as this device holds them and whoever is signed
// in covers them. It works without signal.
func (s *Store) Coverage(ctx context.Context, collection string, ask CoverageAsk) (CoverageGrid, error) {
	return s.keeper.Coverage(ctx, collection, ask)
}
