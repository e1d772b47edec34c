package changes

import (
	"context"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/record"
	"homing/wire"
)

// Ground is what central stands on: PostgreSQL, or tables in memory for rehearsals. It has no rules of its own.
//
// Locks are taken in one order everywhere, so that nobody waits for each other in a circle: the definitions, shared
// by those who change records and alone by those who define; the device; the keys of imports, and unique ones; series; records by
// collection and id; collections by name. A collection's row is locked last and until the commit, which makes
// positions visible in the order in which they were handed out.
type Ground interface {
	// Change runs work in one transaction that changes records. It is run again when another got in between.
	Change(ctx context.Context, work func(Tables) error) error
	// Define runs work in one transaction that changes definitions, while nobody changes records.
	Define(ctx context.Context, work func(Tables) error) error
	// Look runs work on one snapshot that it cannot change.
	Look(ctx context.Context, work func(Tables) error) error
	// Announce tells listeners, after the commit.
	Announce(ctx context.Context, event fleet.Event)
	// Now is central's clock.
	Now() time.Time
	// NewID gives the id of a record that is made at central, or of a database.
	NewID() uuid.UUID
	// Secret is what central signs its seals with.
	Secret() []byte
	// Source is the incarnation under which central itself writes.
	Source() uuid.UUID
	// Generations are the identity of the database now, and those that it had before it was restored, the latest last.
	Generations() (now uuid.UUID, earlier []uuid.UUID)
}

// Tables are central's tables within one transaction.
type Tables interface {
	Loading
	Writing
	Finding
	Defining
}

// Loading is what the desk is given.
type Loading interface {
	// Definitions are the current ones, compiled, by name.
	Definitions(ctx context.Context) (map[string]*definition.Collection, error)
	// Answers are those that were given before to changes of an incarnation. Torn says that two stores have used its
	// numbers.
	Answers(ctx context.Context, incarnation uuid.UUID, numbers []int64) (known map[int64]desk.Kept, torn bool, err error)
	// Lock gives those of the records that are there, locked in the order of collection and id.
	Lock(ctx context.Context, wanted []desk.Key) (map[desk.Key]*desk.Row, error)
	// ParentsOf are the parents that stored records of a collection name.
	ParentsOf(ctx context.Context, c *definition.Collection, ids []uuid.UUID) ([]uuid.UUID, error)
	// ChildrenOf are the children in one collection that are not removed, by parent, in the order of their ids.
	ChildrenOf(ctx context.Context, child *definition.Collection, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error)
	// Counted are these children with their values.
	Counted(ctx context.Context, child *definition.Collection, parents []uuid.UUID) (map[uuid.UUID][]desk.Child, error)
	// Draw takes the next numbers of a series. They are never given twice, whatever becomes of the transaction.
	Draw(ctx context.Context, series desk.Series, count int) ([]int64, error)
	// Advance lets a series go on behind a number. It never sets the series back.
	Advance(ctx context.Context, series desk.Series, behind int64) error
	// Former are the people that a device had before, the latest last.
	Former(ctx context.Context, device uuid.UUID) ([]desk.Former, error)
	// Moments are what records were at each of their revisions.
	Moments(ctx context.Context, of []desk.Key) (map[desk.Key][]desk.Moment, error)
	// Formerly are all versions of a definition, the current one last.
	Formerly(ctx context.Context, collection string) ([]desk.Formerly, error)
	// DirectNumbers takes the next numbers of changes made at central itself, and gives the first.
	DirectNumbers(ctx context.Context, count int) (first int64, err error)
}

// Writing keeps what was decided.
type Writing interface {
	// Head is the position of the last accepted change of a collection.
	Head(ctx context.Context, collection string) (int64, error)
	// HandOut moves the head of a collection by so many positions, and gives where it is then.
	HandOut(ctx context.Context, collection string, count int) (head int64, err error)
	// Write keeps versions, records and answers. It gives [fault.ErrRaced] when a record or an answer has come
	// meanwhile.
	Write(ctx context.Context, decided *desk.Decided) error
	// NoteDirect keeps the answer to a change made at central, which may be asked for again. It gives [fault.ErrRaced] when
	// there is one already.
	NoteDirect(ctx context.Context, source uuid.UUID, digest []byte, answer wire.Answer) error
	// Meet notes that a device was here, and keeps its other pushes waiting until the commit, so that a batch and its
	// repetition do not race.
	Meet(ctx context.Context, device uuid.UUID, at time.Time, offset clock.Offset) error
	// NoteFollowed keeps what became of follow-ups, for people to read.
	NoteFollowed(ctx context.Context, log []Followed) error
	// NotePush keeps what a batch carried, for people to read.
	NotePush(ctx context.Context, device, exchange uuid.UUID, decided *desk.Decided, bytes int) error
}

// Finding is what people at central ask for before they write.
type Finding interface {
	// Rows gives those of the records that are there, without a lock.
	Rows(ctx context.Context, wanted []desk.Key) (map[desk.Key]*desk.Row, error)
	// FieldsAt gives the fields that a record had at a revision.
	FieldsAt(ctx context.Context, at desk.Key, revision int64) (record.Fields, error)
	// ByValue finds records that are not removed by the text of a field that has an index; of several, the oldest comes
	// last.
	ByValue(ctx context.Context, c *definition.Collection, field string, texts []string) ([]Found, error)
	// ByOne finds records that are not removed by the texts of which no two have the same ([definition.Definition.OneText]).
	ByOne(ctx context.Context, c *definition.Collection, texts []string) ([]Found, error)
	// LockKey keeps others who import by the same field, or give its values where they are unique, waiting until the commit. Those who
	// share the lock do not wait for each other.
	LockKey(ctx context.Context, collection, field string, shared bool) error
	// Disputed are the versions of a record in which something was decided, the latest first.
	Disputed(ctx context.Context, at desk.Key) ([]desk.Accepted, error)
}

// Found is a record that was looked up, with the text by which it was.
type Found struct {
	Text string
	ID   uuid.UUID
	Row  *desk.Row
}

// Defining is what goes over the records of a collection.
type Defining interface {
	// PutDefinition keeps a new version of a definition.
	PutDefinition(ctx context.Context, author string, d *definition.Collection, exists bool) error
	// Each goes through the records of a collection, by id; with those that were removed, if asked.
	Each(ctx context.Context, collection string, removed bool, take func(id uuid.UUID, row *desk.Row) error) error
	// Retag writes the territories of records, and gives each a new position, so that devices hear of it.
	Retag(ctx context.Context, collection string, moved map[uuid.UUID]*desk.Row) error
	// TellAgain gives every record of a collection a new position.
	TellAgain(ctx context.Context, collection string) error
	// PutComputed writes computed values.
	PutComputed(ctx context.Context, collection string, computed map[uuid.UUID]record.Fields) error
	// Restored gives the database a new generation and a new source of what is written at central, since it was put
	// back to an earlier state. What was received by a moment is what earlier generations had, too. Series go on by
	// [SeriesGap], so that numbers that were given after the backup are not given again.
	Restored(ctx context.Context, since time.Time, generation, source uuid.UUID) error
	// Devices is how many devices there are.
	Devices(ctx context.Context) (int, error)
}
