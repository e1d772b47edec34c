package feeds

import (
	"context"
	"time"

	"homing/central/postgres"
	"homing/feed"
	"homing/outlet"
)

// noted are records with a revision, and why where they were refused.
type noted struct {
	records, reasons []string
	revisions        []int64
}

// note takes an item in; of several changes of one record, which follow each other, the last counts.
func (k *noted) note(item feed.Item, reason string) {
	id := item.Record.String()
	if last := len(k.records) - 1; last >= 0 && k.records[last] == id {
		k.revisions[last], k.reasons[last] = item.Revision, reason
		return
	}
	k.records, k.revisions, k.reasons = append(k.records, id), append(k.revisions, item.Revision), append(k.reasons, reason)
}

// keep notes what has gone, what was refused, and how far the feed is; to is nil where it has got no further.
func (h *holding) keep(ctx context.Context, name string, items []feed.Item, refused []outlet.Refusal, to *int64) error {
	reasons := map[int]string{}
	for _, one := range refused {
		reasons[one.At] = one.Reason
	}
	var there, aside noted
	var gone, came []string
	var cameRevisions []int64
	for n, item := range items {
		reason, refuses := reasons[n]
		if refuses {
			aside.note(item, reason)
		} else {
			came, cameRevisions = append(came, item.Record.String()), append(cameRevisions, item.Revision)
		}
		switch {
		case item.Change != nil: // a refused one has been brought, too: the record's next goes on behind it
			there.note(item, "")
		case refuses:
		case item.Gone:
			gone = append(gone, item.Record.String())
		default:
			there.note(item, "")
		}
	}
	now := h.db.Now()
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := h.mine(tx.ExecContext(ctx, `UPDATE feeds SET delivered = delivered + $3, delivered_at = CASE WHEN $3 > 0 THEN $4 ELSE delivered_at END,
				error = CASE WHEN $3 > 0 THEN '' ELSE error END, failed_at = CASE WHEN $3 > 0 THEN NULL ELSE failed_at END, tries = CASE WHEN $3 > 0 THEN 0 ELSE tries END,
				before_minute = CASE minute WHEN $5 THEN before_minute WHEN $5::timestamptz - interval '1 minute' THEN in_minute ELSE 0 END,
				in_minute = $3 + CASE minute WHEN $5 THEN in_minute ELSE 0 END, minute = $5
			WHERE name = $1 AND holder = $2`, h.name, h.me, len(came), now, now.UTC().Truncate(time.Minute))); err != nil {
			return err
		}
		for _, s := range []struct {
			any       bool
			statement string
			args      []any
		}{
			{len(there.records) > 0, `INSERT INTO feed_held (feed, collection, record, revision, round) SELECT $1, $2, u.*, $5 FROM unnest($3::uuid[], $4::bigint[]) u
				ON CONFLICT (feed, collection, record) DO UPDATE SET round = excluded.round,
					revision = CASE feed_held.round WHEN excluded.round THEN greatest(feed_held.revision, excluded.revision) ELSE excluded.revision END`, []any{there.records, there.revisions, h.at.Round}},
			{len(gone) > 0, `DELETE FROM feed_held WHERE feed = $1 AND collection = $2 AND record = ANY ($3::uuid[])`, []any{gone}},
			// A record that has come is not aside any more, nor one that has gone; where each change goes, the other changes of a record say nothing of one that was refused.
			{len(came) > 0, `DELETE FROM feed_aside a USING unnest($3::uuid[], $4::bigint[]) u (record, revision) WHERE a.feed = $1 AND a.collection = $2 AND a.record = u.record
				AND (NOT $5 OR a.revision = u.revision OR a.record = ANY ($6::uuid[]))`, []any{came, cameRevisions, h.feed.EachChange(), gone}},
			{len(aside.records) > 0, `INSERT INTO feed_aside (feed, collection, record, revision, reason, at) SELECT $1, $2, u.*, $6 FROM unnest($3::uuid[], $4::bigint[], $5::text[]) u
				ON CONFLICT (feed, collection, record) DO UPDATE SET revision = excluded.revision, reason = excluded.reason, at = excluded.at, again = false`,
				[]any{aside.records, aside.revisions, aside.reasons, now}},
			{to != nil, `INSERT INTO feed_cursors (feed, collection, cursor) VALUES ($1, $2, $3)
				ON CONFLICT (feed, collection) DO UPDATE SET cursor = excluded.cursor`, []any{to}},
		} {
			if !s.any {
				continue
			}
			if _, err := tx.ExecContext(ctx, s.statement, append([]any{h.name, name}, s.args...)...); err != nil {
				return err
			}
		}
		return nil
	})
}
