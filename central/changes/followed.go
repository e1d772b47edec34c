package changes

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/record"
)

// Followed is what became of one follow-up of one accepted change.
type Followed struct {
	At         time.Time       `json:"at" db:"at"`
	Collection string          `json:"collection" db:"collection" doc:"The collection whose definition has the follow-up."`
	Rule       string          `json:"rule" db:"rule"`
	Record     uuid.UUID       `json:"record" db:"record" format:"uuid" doc:"The record whose change it followed."`
	Revision   int64           `json:"revision" db:"revision" doc:"The record's revision by that change."`
	Outcome    string          `json:"outcome" db:"outcome" enum:"done,nothing,refused,stopped"`
	Target     string          `json:"target" db:"target" doc:"The collection of the record that it changed, or was to change; empty where it did not come so far."`
	TargetID   uuid.UUID       `json:"target_record" db:"target_record" format:"uuid"`
	Kind       change.Kind     `json:"kind,omitempty" db:"kind" doc:"What it did to that record."`
	Reasons    []change.Reason `json:"reasons,omitempty" db:"-"`
}

// The outcomes of a follow-up.
const (
	FollowDone    = "done"
	FollowNothing = "nothing" // all was as it was to be
	FollowRefused = "refused" // the rules of the record that it was to change do not allow it, or it could not be worked out
	FollowStopped = "stopped" // the chain of follow-ups was as long as it may get
)

// FollowAuthor is under which name the changes of a follow-up stand in the history. No worker can have it.
func FollowAuthor(collection, rule string) string { return "follow-up " + collection + "." + rule }

// followSpace is the space of the ids of records that follow-ups add (RFC 9562, section 5.5).
var followSpace = uuid.MustParse("3b8c7f52-0f0a-4c38-9d0e-6a1e6f2f8a90")

// link is an accepted change in a chain of follow-ups.
type link struct {
	in      *desk.Decided
	version *desk.Version
	// origin names the change that began the chain, and the way from it to here: the same change, taken again after central
	// was restored, has the same, and so have the records that follow it.
	origin string
	depth  int
}

// follower is the work on what follows a batch.
type follower struct {
	*Changes
	t     Tables
	begun time.Time
	made  []*desk.Decided
	log   []Followed
}

// accept works through changes as [Changes.decide] does, and makes what follows them.
func (c *Changes) accept(ctx context.Context, t Tables, from desk.Origin, items []desk.Item,
	check func(*desk.Decided) error) (*desk.Decided, error) {
	done, err := c.decide(ctx, t, from, items, check)
	if err != nil {
		return done, err
	}
	done.Followed, err = c.followUps(ctx, t, done)
	return done, err
}

// followUps makes what follows the accepted changes of a batch, and what follows that, in the same transaction. A follow-up
// that is refused harms nothing else.
func (c *Changes) followUps(ctx context.Context, t Tables, done *desk.Decided) ([]*desk.Decided, error) {
	var chain []link
	for _, v := range done.Versions {
		chain = append(chain, link{done, v, fmt.Sprintf("%s %d", done.Origin.Incarnation, v.Change.Number), 0})
	}
	f := follower{Changes: c, t: t, begun: done.Origin.Received}
	for len(chain) > 0 {
		definitions, err := t.Definitions(ctx)
		if err != nil {
			return nil, err
		}
		acts, err := f.due(definitions, chain)
		if err != nil {
			return nil, err
		}
		if chain, err = f.do(ctx, acts); err != nil {
			return nil, err
		}
	}
	if len(f.log) == 0 {
		return nil, nil
	}
	return f.made, t.NoteFollowed(ctx, f.log)
}

// due are the acts that follow the links of a chain, in their order. What cannot be done is logged.
func (f *follower) due(definitions map[string]*definition.Collection, chain []link) (acts []act, err error) {
	for _, at := range chain {
		collection := definitions[at.version.Collection]
		if collection == nil || len(collection.FollowUps) == 0 {
			continue
		}
		follows, err := collection.Follows(at.in.Cause(at.version))
		if err != nil {
			return nil, err
		}
		for _, one := range follows {
			entry := Followed{At: f.begun, Collection: at.version.Collection, Rule: one.Rule.Name, Record: at.version.ID,
				Revision: at.version.Revision}
			switch {
			case at.depth >= one.Rule.Deep():
				entry.Outcome = FollowStopped
				entry.Reasons = []change.Reason{{Code: change.CodeTooDeep, Message: fmt.Sprintf("it is due again after a chain of %d "+
					"follow-ups, which is as long as its depth lets one get; look at whether they set each other off", at.depth)}}
				f.log = append(f.log, entry)
			case one.Wrong != nil:
				entry.Outcome = FollowRefused
				entry.Reasons = []change.Reason{{Code: change.CodeInvalidValue, Message: one.Wrong.Error()}}
				f.log = append(f.log, entry)
			default:
				acts = append(acts, actsOf(definitions, collection, at, one, entry)...)
			}
		}
	}
	return acts, nil
}

// do makes acts in their order, as many at once as touch no record twice, and gives the links that this adds to the chain.
func (f *follower) do(ctx context.Context, acts []act) (more []link, err error) {
	const most = 500
	for len(acts) > 0 {
		touched := map[desk.Key]bool{}
		n := 0
		for n < min(len(acts), most) && !touched[acts[n].at] {
			touched[acts[n].at] = true
			n++
		}
		links, err := f.doAtOnce(ctx, acts[:n])
		if err != nil {
			return nil, err
		}
		more, acts = append(more, links...), acts[n:]
	}
	return more, nil
}

func (f *follower) doAtOnce(ctx context.Context, acts []act) (more []link, err error) {
	keys := make([]desk.Key, len(acts))
	for n, a := range acts {
		keys[n] = a.at
	}
	rows, err := f.t.Rows(ctx, keys)
	if err != nil {
		return nil, err
	}
	first, err := f.t.DirectNumbers(ctx, len(acts))
	if err != nil {
		return nil, err
	}
	from := desk.Origin{Incarnation: f.ground.Source(), Received: f.begun, Follows: true}
	var changes []change.Change
	var of []act
	for _, a := range acts {
		a.entry.Target, a.entry.TargetID, a.entry.Kind = a.at.Collection, a.at.ID, a.kind
		ch, is := a.change(rows[a.at])
		if !is {
			a.entry.Outcome = FollowNothing
			f.log = append(f.log, a.entry)
			continue
		}
		who := fleet.Everything(FollowAuthor(a.entry.Collection, a.entry.Rule))
		from.People = append(from.People, who)
		ch.Number, ch.Author = first+int64(len(changes)), who.Name
		ch.Stamp, ch.EditedAt = a.follows.Stamp, a.follows.EditedAt
		changes, of = append(changes, ch), append(of, a)
	}
	if len(changes) == 0 {
		return nil, nil
	}
	done, err := f.decide(ctx, f.t, from, desk.ItemsOf(changes), nil)
	if err != nil {
		return nil, err
	}
	for n, a := range of {
		if answer := done.Answers[n]; answer.Answer.Accepted() {
			a.entry.Outcome = FollowDone
		} else {
			a.entry.Outcome, a.entry.Reasons = FollowRefused, answer.Reasons
		}
		f.log = append(f.log, a.entry)
		for _, v := range done.Versions {
			if v.Key == a.at {
				more = append(more, link{done, v, a.origin + "/" + v.ID.String(), a.depth})
			}
		}
	}
	f.made = append(f.made, done)
	return more, nil
}

// act is what a follow-up does to one record.
type act struct {
	at     desk.Key
	kind   change.Kind
	values record.Fields // nil for one that is taken away
	entry  Followed
	origin string
	depth  int // of what follows it
	// follows is the change that it follows, and is dated like it: an edit that somebody makes after they saw what followed is later, also
	// where central was restored, and the follow-up made once more, in between.
	follows *desk.Version
}

// actsOf are the acts of one follow-up of one change.
func actsOf(definitions map[string]*definition.Collection, collection *definition.Collection, at link,
	one definition.Following, entry Followed) (all []act) {
	base := act{kind: change.Edit, entry: entry, depth: at.depth + 1, follows: at.version,
		origin: fmt.Sprintf("%s/%s.%s", at.origin, entry.Collection, entry.Rule)}
	if one.Set != nil {
		a := base
		a.at, a.values = at.version.Key, one.Set
		all = append(all, a)
	}
	fields := at.version.After
	if fields == nil {
		fields = at.version.Before
	}
	if parent, names := collection.ParentOf(fields); names && one.SetParent != nil {
		a := base
		a.at, a.values = desk.Key{Collection: collection.Parent.Collection, ID: parent}, one.SetParent
		all = append(all, a)
	}
	if one.Rule.Add != nil {
		a := base
		of := a.origin
		if one.Rule.Add.Each != definition.EachChange {
			of = fmt.Sprintf("%s %s.%s", at.version.ID, entry.Collection, entry.Rule)
		}
		a.at = desk.Key{Collection: one.Rule.Add.Collection, ID: uuid.NewSHA1(followSpace, []byte(of))}
		a.kind, a.values = change.Add, record.Fields{}
		for name, value := range one.Add {
			if value != nil {
				a.values[name] = value
			}
		}
		target := definitions[one.Rule.Add.Collection]
		target.StartWith(a.values, nil)
		if id, follows := target.OneID(a.values); follows {
			a.at.ID = id
		}
		all = append(all, a)
	}
	return all
}

// change is what an act does to a record as it stands now, unless there is nothing to do.
func (a act) change(row *desk.Row) (change.Change, bool) {
	ch := change.Change{Collection: a.at.Collection, Record: a.at.ID, Kind: a.kind, Fields: record.Delta{}}
	there := row != nil && row.Exists()
	if a.kind == change.Add {
		ch.Fields = record.Diff(nil, a.values)
		return ch, !there // otherwise there is one already, if only since it was made before the database was put back
	}
	if !there || row.Removed {
		return ch, false
	}
	ch.Base = row.Revision
	for name, value := range a.values {
		if from := row.Fields[name]; string(from) != string(value) {
			ch.Fields[name] = record.Edit{From: from, To: value}
		}
	}
	return ch, len(ch.Fields) > 0
}
