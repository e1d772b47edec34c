package rehearse

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/fingerprint"
	"homing/core/merge"
	"homing/core/record"
)

func (w *world) wrong(format string, args ...any) {
	w.report.Wrong = append(w.report.Wrong, fmt.Sprintf(format, args...))
}

// check holds the outcome against the ledger.
func (w *world) check(ctx context.Context) error {
	var err error
	if w.records, w.history, err = w.side.whole(); err != nil {
		return err
	}
	w.checkSaves()
	w.checkCounters()
	w.checkDevices(ctx)
	w.checkNumbers()
	w.checkDecisions()
	w.checkOrder()
	w.checkFollowed()
	w.checkShared()
	w.checkLeftOut()
	w.checkLetGo(ctx)
	return w.checkScreens(ctx)
}

// said is how often a token came new into a field by accepted changes, and the changes.
func (w *world) said() map[string][]desk.Accepted {
	all := map[string][]desk.Accepted{}
	for _, v := range w.history {
		for _, field := range v.Change.Fields.Names() {
			edit := v.Change.Fields[field]
			for found := range tokensOf(edit.To) {
				if s := w.ledger.tokens[found]; s != nil && w.deviceOf(s.unit) == v.Device &&
					!was(v.Change.Fields, found) {
					all[found] = append(all[found], v)
				}
			}
		}
	}
	return all
}

// was says whether a token stood in a record before a change; when a field is called otherwise, it stood in another.
func was(delta record.Delta, token string) bool {
	for _, edit := range delta {
		if strings.Contains(string(edit.From), token) {
			return true
		}
	}
	return false
}

// tokensOf finds the tokens in a value: a letter, digits and a point.
func tokensOf(value json.RawMessage) map[string]bool {
	found := map[string]bool{}
	text := string(value)
	for n := 0; n < len(text); n++ {
		if text[n] < 'a' || text[n] > 'z' {
			continue
		}
		end := n + 1
		for end < len(text) && text[end] >= '0' && text[end] <= '9' {
			end++
		}
		if end > n+1 && end < len(text) && text[end] == '.' {
			found[text[n:end+1]] = true
			n = end
		}
	}
	return found
}

// checkSaves looks for every save in central's history: once, unless a later save of the same worker took its place
// before it was sent, the device was lost with it, or the worker gave it up.
func (w *world) checkSaves() {
	said := w.said()
	for n, s := range w.ledger.saves {
		if s.token == "" {
			continue
		}
		times := len(said[s.token])
		switch {
		case times > 1 && !w.anyKin(w.ledger.settled, s) && !w.mendedTwice(s):
			w.wrong(
				"P2: %s of %s, saved by %s as %s, is in the history %d times",
				s.field,
				name(s.collection, s.record),
				w.workerOf(s.unit),
				s.token,
				times,
			)
		case times > 0 && said[s.token][0].Author != s.who && !w.wasOffered(s.record) && !w.anyKin(w.ledger.settled, s):
			w.wrong("P6: %s of %s, saved by %s as %s, is by %s in the history", s.field, name(s.collection, s.record), s.who, s.token,
				said[s.token][0].Author)
		case times == 0 && !s.mayBeLost && !s.givenUp && !w.replaced(n):
			w.wrong(
				"P1: %s of %s, saved by %s as %s, is nowhere",
				s.field,
				name(s.collection, s.record),
				w.workerOf(s.unit),
				s.token,
			)
		}
	}
}

// replaced says whether the same worker saved the field again later, and both went to central as one change.
func (w *world) replaced(n int) bool {
	s := w.ledger.saves[n]
	if !slices.ContainsFunc(w.ledger.saves[n+1:], func(later *save) bool {
		return w.kin(later.unit, s.unit) && later.who == s.who && later.record == s.record && later.field == s.field
	}) {
		return false
	}
	return w.anyKin(w.ledger.mended, s) || slices.ContainsFunc(w.history, func(v desk.Accepted) bool {
		return v.ID == s.record && v.Device == w.deviceOf(s.unit) && len(v.Change.Folds) > 0
	})
}

// outlived says whether an edit of a record was set aside since the record was removed, by the rule that removals
// stay. Should the record be brought back, it is as it was when it was removed.
func (w *world) outlived(id uuid.UUID) bool {
	return slices.ContainsFunc(w.history, func(v desk.Accepted) bool {
		return v.ID == id && v.Change.Kind != change.Remove &&
			slices.ContainsFunc(v.Decisions, func(d change.Decision) bool {
				return d.Field == "" &&
					d.Rule == string(merge.RemovalStays)
			})
	})
}

// checkCounters adds up what every worker has counted.
func (w *world) checkCounters() {
	sums, unsure := map[string]int64{}, map[string]bool{}
	for _, s := range w.ledger.saves {
		at := s.collection + s.record.String() + s.field
		if s.kind == number {
			sums[at] += s.added
			unsure[at] = unsure[at] || s.mayBeLost || s.givenUp || w.mendedTwice(s)
		}
	}
	for _, r := range w.records {
		def := w.definitionOf(r.Collection)
		for _, f := range def.Fields {
			at := r.Collection + r.ID.String() + f.Name
			if made, _ := kindOf(def, f); made != number || unsure[at] || r.Removed || w.outlived(r.ID) {
				continue
			}
			var got float64
			if raw := r.Fields[f.Name]; raw != nil && json.Unmarshal(raw, &got) != nil {
				continue
			}
			if int64(got) != sums[at] {
				w.wrong(
					"P2: %s of %s counts %d, and the workers have counted %d",
					f.Name,
					name(r.Collection, r.ID),
					int64(got),
					sums[at],
				)
			}
		}
	}
}

// checkNumbers looks for a number of a series, or a key that is unique, that two records have.
func (w *world) checkNumbers() {
	has := map[string]uuid.UUID{}
	for _, r := range w.records {
		def := w.definitionOf(r.Collection)
		for _, f := range def.Fields {
			number := string(r.Fields[f.Name])
			if key := def.Unique && f.Name == def.Key && !r.Removed; f.Series == "" && !key || number == "" {
				continue
			}
			at := r.Collection + " " + f.Name + " " + number
			if other, taken := has[at]; taken {
				w.wrong(
					"P7: %s and %s both have the %s %s",
					name(r.Collection, r.ID),
					name(r.Collection, other),
					f.Name,
					number,
				)
			}
			has[at] = r.ID
		}
	}
}

// checkDevices compares what each device holds with what its workers may have of it.
func (w *world) checkDevices(ctx context.Context) {
	for _, d := range w.devices {
		if all, err := d.store.People(ctx); err == nil {
			for _, p := range all {
				if p.Unsent > 0 {
					w.wrong("P1: %d changes of %s are still on %s, and nobody gave them up", p.Unsent, p.Name, d.name)
				}
			}
		}
		people := d.people()
		for _, def := range w.definitions() {
			c, err := def.Compile()
			if err != nil {
				w.wrong("%s: %v", def.Collection, err)
				continue
			}
			if !def.Sync.Keep.Loads() || !def.Sync.Direction.Pulls() {
				continue
			}
			var want fingerprint.Set
			at := map[uuid.UUID]desk.Held{}
			for _, r := range w.records {
				if r.Collection == def.Collection && !r.Removed && people.See(c, r.Territories, r.Fields) {
					want.Add(r.ID, r.Fields.JSON())
					at[r.ID] = r
				}
			}
			got, err := d.store.Fingerprint(ctx, def.Collection)
			if err != nil {
				w.wrong("%s: %v", d.name, err)
				continue
			}
			if got.Fingerprint != want.String() || got.Count != want.Count() {
				w.wrong(
					"P4: %s and central do not agree on %s: %s",
					d.name,
					def.Collection,
					w.differences(ctx, d, def, at),
				)
			}
		}
	}
}

func (w *world) differences(ctx context.Context, d *unit, def definition.Definition,
	want map[uuid.UUID]desk.Held) string {
	found, err := d.store.Find(ctx, def.Collection, driver.Find{Limit: 1000})
	if err != nil {
		return err.Error()
	}
	var all []string
	for _, r := range found.Records {
		for _, f := range def.Fields {
			if f.Computed != "" || f.Local {
				delete(r.Fields, f.Name) // no part of what both sides have
			}
		}
		held, there := want[r.ID]
		delete(want, r.ID)
		switch {
		case !there:
			all = append(all, fmt.Sprintf("%s is only on the device (revision %d, pending %d, lost %v)",
				name(def.Collection, r.ID), r.Revision, r.Pending, r.Lost))
		case string(r.Fields.JSON()) != string(held.Fields.JSON()):
			all = append(all, fmt.Sprintf("%s is %s on the device (revision %d, pending %d, lost %v), %s at central "+
				"(revision %d)", name(def.Collection, r.ID), r.Fields.JSON(), r.Revision, r.Pending, r.Lost,
				held.Fields.JSON(), held.Revision))
		}
	}
	for id := range want {
		all = append(all, name(def.Collection, id)+" is missing on the device")
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}

// checkDecisions looks for values that were overwritten by somebody who had not seen them, and nothing says by which
// rule.
func (w *world) checkDecisions() {
	state, set := map[string]record.Fields{}, map[string]int64{}
	for _, v := range w.history {
		at := v.Collection + v.ID.String()
		before := state[at]
		rules := w.definitionOf(v.Collection).Rules()
		sent, did := w.presentDelta(v.Collection, v.Change.Fields), w.presentDelta(v.Collection, v.Delta)
		for _, field := range sent.Names() {
			edit, delta := sent[field], did[field]
			rule := rules.Fields[field]
			seen := string(edit.From) == string(before[field]) || set[at+field] <= v.Change.Base
			if v.Revision == 1 || seen || string(before[field]) == string(edit.To) || rule == merge.Sum ||
				rule == merge.Union || rules.Nested[field] || delta.To == nil && delta.From == nil {
				continue
			}
			if !slices.ContainsFunc(v.Decisions, func(d change.Decision) bool {
				of, _, _ := strings.Cut(d.Field, "/")
				now, _ := w.present(v.Collection, of)
				return now == field
			}) && !w.own(v, field) {
				w.wrong(
					"P5: revision %d of %s overwrote %s, which its author had not seen, and no decision says why",
					v.Revision,
					name(v.Collection, v.ID),
					field,
				)
			}
		}
		state[at] = before.Apply(did)
		for field, edit := range did {
			if string(before[field]) != string(edit.To) { // what was carried over to a new name was not set anew
				set[at+field] = v.Revision
			}
		}
	}
}

// own says whether the last to set a field before a version was the same store. At central many people write.
func (w *world) own(v desk.Accepted, field string) bool {
	if v.Device == "" {
		return false
	}
	mine := false
	for _, other := range w.history {
		if other.Collection == v.Collection && other.ID == v.ID && other.Revision < v.Revision {
			if _, set := w.presentDelta(other.Collection, other.Delta)[field]; set {
				mine = other.Device == v.Device && other.Author == v.Author
			}
		}
	}
	return mine
}

// checkOrder looks at fields where the later edit stays: it must be the one that truly was the latest, unless the
// clocks cannot tell.
func (w *world) checkOrder() {
	type known struct {
		at  time.Time
		off time.Duration
		who string
	}
	latest, second := map[string]known{}, map[string]known{}
	for text, versions := range w.said() {
		s := w.ledger.tokens[text]
		if s == nil || s.kind != token || len(versions) != 1 {
			continue
		}
		v := versions[0]
		at := s.collection + s.record.String() + s.field
		one := known{s.at, v.Off, text}
		if best, any := latest[at]; !any || one.at.After(best.at) {
			if any {
				second[at] = best
			}
			latest[at] = one
		} else if next, any := second[at]; !any || one.at.After(next.at) {
			second[at] = one
		}
	}
	for _, r := range w.records {
		def := w.definitionOf(r.Collection)
		rules := def.Rules()
		for _, f := range def.Fields {
			made, _ := kindOf(def, f)
			rule, own := rules.Fields[f.Name]
			if own && rule != merge.Newest || w.ruled[r.Collection+" "+f.Name] || made != token || r.Removed || r.Fields[f.Name] == nil ||
				w.wasOffered(r.ID) ||
				w.outlived(r.ID) || len(w.rounds) > 0 && r.Collection == w.rounds[0].Collection && w.begunAgain(r.Collection, r.ID) {
				continue
			}
			at := r.Collection + r.ID.String() + f.Name
			best, next := latest[at], second[at]
			var stayed string
			if json.Unmarshal(r.Fields[f.Name], &stayed) != nil || best.who == "" || stayed == best.who {
				continue
			}
			if next.who != "" && best.at.Sub(next.at) <= best.off+next.off+time.Second && stayed == next.who {
				continue
			}
			s := w.ledger.tokens[stayed]
			if s == nil || best.at.Sub(s.at) <= best.off+w.off(stayed)+time.Second || w.foldedAside(s, best.who) {
				continue
			}
			w.wrong("P8: %s of %s stayed %s, but %s is %s later", f.Name, name(r.Collection, r.ID), stayed, best.who,
				best.at.Sub(s.at))
		}
	}
}

// foldedAside says whether a value was in an add that took later edits in, while a copy of the store had the same
// unsent add and edited it, too: the whole add has the date of its last edit then, since nobody else can have had the
// record but a copy. What was refused and is sent again, as after a restore that took the add away, is said anew with
// all that it says, and has that date.
func (w *world) foldedAside(stayed *save, other string) bool {
	versions, rival := w.said()[stayed.token], w.ledger.tokens[other]
	if len(versions) == 0 || versions[0].Change.Kind != change.Add {
		return false
	}
	return w.anyKin(w.ledger.mended, stayed) || len(versions[0].Change.Folds) > 0 &&
		rival.unit != stayed.unit && w.kin(rival.unit, stayed.unit)
}

func (w *world) off(text string) time.Duration {
	if versions := w.said()[text]; len(versions) > 0 {
		return versions[0].Off
	}
	return 0
}

// count sums up what was decided.
func (w *world) count() {
	w.report.Devices = len(w.devices)
	decided := map[Decided]int{}
	for _, v := range w.history {
		for _, d := range v.Decisions {
			decided[Decided{Collection: v.Collection, Field: d.Field, Rule: d.Rule}]++
		}
	}
	for _, one := range slices.SortedFunc(maps.Keys(decided), func(a, b Decided) int {
		return strings.Compare(a.Collection+" "+a.Field+" "+a.Rule, b.Collection+" "+b.Field+" "+b.Rule)
	}) {
		one.Count = decided[Decided{one.Collection, one.Field, one.Rule, 0}]
		w.report.Decisions = append(w.report.Decisions, one)
	}
	for _, r := range w.records {
		if !r.Removed {
			w.report.Records++
		}
	}
}

func (w *world) wasOffered(id uuid.UUID) bool {
	_, was := w.ledger.offered[id]
	return was
}
