package postgres

import (
	"context"
	"time"

	"homing/central/changes"
)

// NoteFollowed is [changes.Writing.NoteFollowed].
func (t *Tx) NoteFollowed(ctx context.Context, log []changes.Followed) error {
	size := len(log)
	at := make([]time.Time, size)
	collections, rules, outcomes, targets, kinds := make([]string, size), make([]string, size), make([]string, size),
		make([]string, size), make([]string, size)
	records, targetIDs := make([]string, size), make([]string, size)
	revisions, reasons := make([]int64, size), make([]*string, size)
	for n, one := range log {
		at[n], collections[n], rules[n], outcomes[n] = one.At, one.Collection, one.Rule, one.Outcome
		records[n], revisions[n], targets[n], targetIDs[n] = one.Record.String(), one.Revision, one.Target, one.TargetID.String()
		kinds[n] = string(one.Kind)
		if len(one.Reasons) > 0 {
			text := marshal(one.Reasons)
			reasons[n] = &text
		}
	}
	_, err := t.ExecContext(ctx, `INSERT INTO follow_ups (at, collection, rule, record, revision, outcome, target, target_record, kind, reasons)
		SELECT * FROM unnest($1::timestamptz[], $2::text[], $3::text[], $4::uuid[], $5::bigint[], $6::text[], $7::text[], $8::uuid[], $9::text[],
			$10::json[])`, at, collections, rules, records, revisions, outcomes, targets, targetIDs, kinds, reasons)
	return err
}
