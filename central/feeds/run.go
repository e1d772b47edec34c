package feeds

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/central/postgres"
	"homing/central/pulls"
	"homing/core/record"
	"homing/core/sight"
	"homing/feed"
	"homing/outlet"
	"homing/wire"
)

// How often it is looked whether there is anything to do, and how long is waited after something went wrong: longer each time.
const (
	lookEvery = 500 * time.Millisecond
	firstWait = time.Second
	mostWait  = 5 * time.Minute
)

// Work works all feeds until the context is done. Of several instances on one database each feed has one that works it; where that ends or loses its
// connection, another takes over. Folder is where files go; empty where there is none.
func (c *Feeds) Work(ctx context.Context, folder string) {
	for {
		// The locks are the connection's: they go with it, whichever way the instance ends.
		if conn, err := c.db.Connx(ctx); err == nil {
			c.workWith(ctx, &locks{conn: conn}, folder)
			conn.Close() // whatever is wrong with it, nothing is held by it any more
		}
		if !rest(ctx, lookEvery) {
			return
		}
	}
}

// workWith works feeds as long as a connection holds.
func (c *Feeds) workWith(ctx context.Context, held *locks, folder string) {
	var all sync.WaitGroup
	defer all.Wait()
	var mu sync.Mutex
	under := map[string]bool{}
	for {
		names, err := held.names(ctx)
		if err != nil {
			if ctx.Err() == nil {
				c.log.Warn("feeds cannot be looked at", "error", err)
			}
			return
		}
		for _, name := range names {
			mu.Lock()
			if begins := !under[name]; begins {
				under[name] = true
				all.Go(func() {
					c.hold(ctx, held, name, folder)
					mu.Lock()
					delete(under, name)
					mu.Unlock()
				})
			}
			mu.Unlock()
		}
		if !rest(ctx, lookEvery) {
			return
		}
	}
}

// locks are an instance's locks on feeds. One goroutine at a time uses their connection.
type locks struct {
	mu   sync.Mutex
	conn *sqlx.Conn // guarded by mu
}

// names are the feeds that are to be worked.
func (l *locks) names(ctx context.Context) (names []string, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	err = l.conn.SelectContext(ctx, &names, `SELECT name FROM feeds WHERE paused_at IS NULL`)
	return names, err
}

// take takes the lock of a feed, unless another instance has it.
func (l *locks) take(ctx context.Context, name string) (got bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	err := l.conn.GetContext(ctx, &got, `SELECT pg_try_advisory_lock(hashtextextended('homing feed ' || $1, 0))`, name)
	return err == nil && got
}

func (l *locks) free(ctx context.Context, name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	// With a connection that is gone, the lock is gone, too.
	_, _ = l.conn.ExecContext(ctx, `SELECT pg_advisory_unlock(hashtextextended('homing feed ' || $1, 0))`, name)
}

// hold says whether the locks are still held: they go with the connection.
func (l *locks) hold(ctx context.Context) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, err := l.conn.ExecContext(ctx, `SELECT 1`)
	return err == nil
}

func rest(ctx context.Context, long time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(long):
		return true
	}
}

// errLost says that somebody else works the feed now, or that it was paused, changed or removed.
var errLost = errors.New("the feed is worked by somebody else now")

// hold works a feed as long as this instance may.
func (c *Feeds) hold(ctx context.Context, held *locks, name, folder string) {
	if !held.take(ctx, name) {
		return
	}
	defer held.free(context.WithoutCancel(ctx), name)
	h := holding{Feeds: c, name: name, folder: folder, locks: held, me: uuid.New()}
	defer h.close()
	if err := c.one(ctx, name, `UPDATE feeds SET holder = '`+h.me.String()+`' WHERE name = $1 AND paused_at IS NULL`); err != nil {
		return
	}
	for {
		moved, err := h.carefully(ctx)
		switch {
		case ctx.Err() != nil || errors.Is(err, errLost):
			return
		case err != nil:
			h.close() // the next try begins with a fresh connection
			if h.fails(ctx, err) != nil {
				return
			}
		}
		if !moved && !rest(ctx, lookEvery) {
			return
		}
	}
}

// holding is the work on a feed by whoever holds it.
type holding struct {
	*Feeds
	name, folder string
	locks        *locks
	me           uuid.UUID

	out    outlet.Outlet
	ready  string // for what the destination was made ready
	at     row
	feed   feed.Feed
	parts  map[string]*feed.Shaped
	seer   sight.Askers
	wrote  map[string]time.Time // when the last file of a collection was written
	digest string
}

func (h *holding) close() {
	if h.out != nil {
		h.out.Close()
		h.out, h.ready = nil, ""
	}
}

// fails notes what went wrong, and until when is waited.
func (h *holding) fails(ctx context.Context, err error) error {
	h.log.Warn("a feed does not get through", "feed", h.name, "error", err)
	wait := firstWait << min(h.at.Tries, 10)
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		now := h.db.Now()
		return h.mine(tx.ExecContext(ctx, `UPDATE feeds SET error = $3, failed_at = coalesce(failed_at, $4), tries = tries + 1, next_try = $5
			WHERE name = $1 AND holder = $2`, h.name, h.me, err.Error(), now, now.Add(min(wait, mostWait))))
	})
}

func (h *holding) mine(done interface{ RowsAffected() (int64, error) }, err error) error {
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, errLost)
	}
	return nil
}

// carefully is step, and makes an error of a fault of the program: it must not take central with it.
func (h *holding) carefully(ctx context.Context) (moved bool, err error) {
	defer func() {
		if broken := recover(); broken != nil {
			h.log.Error("fault", "feed", h.name, "cause", broken, "stack", string(debug.Stack()))
			moved, err = false, errors.New("central failed to work this feed; its log says more")
		}
	}()
	return h.step(ctx)
}

// step brings on what there is; moved says that there may be more.
func (h *holding) step(ctx context.Context) (moved bool, err error) {
	if !h.locks.hold(ctx) {
		return false, errLost
	}
	if err := h.db.GetContext(ctx, &h.at, `SELECT *, 0::bigint AS lag, 0 AS aside FROM feeds WHERE name = $1 AND holder = $2 AND paused_at IS NULL`, h.name, h.me); err != nil {
		return false, errLost
	}
	if h.at.NextTry != nil && h.db.Now().Before(*h.at.NextTry) {
		return false, nil
	}
	if err := h.prepare(ctx); err != nil {
		return false, err
	}
	cursors, heads, err := h.cursors(ctx)
	if err != nil {
		return false, err
	}
	behind := false
	for _, name := range slices.Sorted(maps.Keys(h.parts)) {
		if cursors[name] == heads[name] {
			continue
		}
		at, err := h.collection(ctx, name, cursors[name])
		moved = moved || at > cursors[name]
		behind = behind || at < heads[name]
		if err != nil {
			return false, err
		}
	}
	if err := h.again(ctx); err != nil {
		return false, err
	}
	if behind {
		return moved, nil
	}
	if h.at.Whole < h.at.Round {
		return true, h.wholeRound(ctx)
	}
	return moved, h.goesWell(ctx)
}

// goesWell takes back what was noted when something went wrong.
func (h *holding) goesWell(ctx context.Context) error {
	if h.at.Error == "" {
		return nil
	}
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		return h.mine(tx.ExecContext(ctx, `UPDATE feeds SET error = '', failed_at = NULL, next_try = NULL, tries = 0 WHERE name = $1 AND holder = $2`, h.name, h.me))
	})
}

// prepare finds out what the feed is now, and begins a round where it, what it may carry, or the database is another than before.
func (h *holding) prepare(ctx context.Context) error {
	h.feed = feed.Feed{}
	if err := json.Unmarshal(h.at.Doc, &h.feed); err != nil {
		return err
	}
	definitions, err := h.compiled(ctx)
	if err != nil {
		return err
	}
	who, err := h.Feeds.seer(ctx, h.feed)
	if err != nil {
		return err
	}
	h.seer = sight.Alone(who)
	h.parts = map[string]*feed.Shaped{}
	sum := sha256.New()
	fmt.Fprintf(sum, "%s %s", h.at.Doc, h.seer.Digest())
	for _, name := range slices.Sorted(maps.Keys(h.feed.Collections)) {
		c := definitions[name]
		if c == nil {
			return fmt.Errorf("there is no collection %s any more; take it out of the feed", name)
		}
		if h.parts[name], err = h.feed.Shape(c); err != nil {
			return err
		}
		fmt.Fprintf(sum, " %s %d", name, c.Version)
	}
	h.digest = hex.EncodeToString(sum.Sum(nil)[:16])
	generation, _ := h.db.Generations()
	if h.at.Sight != h.digest || h.at.Generation.UUID != generation {
		again := h.at.Sight != "" // otherwise this is the first
		if err := h.begin(ctx, generation, again); err != nil {
			return err
		}
	}
	if h.out == nil {
		if h.out, err = outlet.Open(h.feed, outlet.Options{Folder: h.folder, Source: generation.String(),
			Secret: func(name string) (string, error) { return h.secret(ctx, name) }}); err != nil {
			return err
		}
	}
	if h.ready != h.digest {
		if err := h.out.Ready(ctx, h.parts); err != nil {
			return err
		}
		h.ready = h.digest
	}
	return nil
}

// begin begins a round.
func (h *holding) begin(ctx context.Context, generation uuid.UUID, again bool) error {
	h.close()
	if again {
		h.at.Round++
	}
	// What a central that was put back has forgotten may have been a later round than it knows of. The clock has gone on since,
	// and says more than all rounds that were counted one by one.
	if h.at.Generation.Valid && h.at.Generation.UUID != generation {
		h.at.Round = max(h.at.Round, int(h.db.Now().UnixMilli()))
	}
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM feed_cursors WHERE feed = $1`, h.name); err != nil {
			return err
		}
		return h.mine(tx.ExecContext(ctx, `UPDATE feeds SET round = $3, sight = $4, generation = $5 WHERE name = $1 AND holder = $2`,
			h.name, h.me, h.at.Round, h.digest, generation))
	})
}

func (h *holding) cursors(ctx context.Context) (cursors, heads map[string]int64, err error) {
	cursors = map[string]int64{}
	var rows []struct {
		Collection string `db:"collection"`
		Cursor     int64  `db:"cursor"`
	}
	if err := h.db.SelectContext(ctx, &rows, `SELECT collection, cursor FROM feed_cursors WHERE feed = $1`, h.name); err != nil {
		return nil, nil, err
	}
	for _, r := range rows {
		cursors[r.Collection] = r.Cursor
	}
	err = h.db.Deliver(ctx, func(t pulls.Tables) error {
		heads, err = t.Heads(ctx)
		return err
	})
	return cursors, heads, err
}

// collection brings a page of a collection, and says how far it has got.
func (h *holding) collection(ctx context.Context, name string, cursor int64) (int64, error) {
	limit, gathers := pulls.DefaultPage, time.Duration(0)
	if to := h.feed.To.Files; to != nil {
		limit, gathers = min(to.AtMost(), pulls.MaxPage), to.Gathers()
	}
	page, err := h.pulls.Read(ctx, h.seer, pulls.Request{Collection: name, Cursor: cursor, Limit: limit})
	if err != nil {
		return cursor, err
	}
	if !page.More && len(page.Records) > 0 && h.db.Now().Before(h.wrote[name].Add(gathers)) {
		return cursor, nil // more may come for the same file
	}
	items, ids, whole, err := h.going(ctx, name, page.Records)
	if err != nil {
		return cursor, err
	}
	// upTo is how far the feed is when so many of the records have gone whole.
	upTo := func(records int) int64 {
		switch records {
		case 0:
			return cursor
		case len(page.Records):
			return page.Cursor
		}
		return page.Records[records-1].Position
	}
	to := upTo(whole)
	var refused []outlet.Refusal
	done := 0
	if len(items) > 0 {
		if err := h.mayHave(ctx, name, items); err != nil {
			return cursor, err
		}
		done, refused, err = h.out.Deliver(ctx, outlet.Batch{Collection: h.parts[name].Called, Round: h.at.Round, From: cursor, To: to, Items: items})
		if h.wrote == nil {
			h.wrote = map[string]time.Time{}
		}
		h.wrote[name] = h.db.Now()
	}
	if done < len(items) {
		to = upTo(ids[done])
	}
	if kept := h.keep(ctx, name, items[:done], refused, &to); kept != nil {
		return cursor, kept
	}
	return to, err
}

// going is what goes of records, which of them it is of, and of how many of them it is all.
func (h *holding) going(ctx context.Context, name string, records []wire.Record) (items []feed.Item, of []int, whole int, err error) {
	if h.feed.EachChange() {
		brought, err := h.brought(ctx, name, records)
		if err != nil {
			return nil, nil, 0, err
		}
		return h.changes(ctx, name, records, brought)
	}
	items, of, err = h.items(ctx, name, records)
	return items, of, len(records), err
}

// items are what goes of records as they are, and which records they are of. Of what the destination does not have it is not told that it is gone.
func (h *holding) items(ctx context.Context, name string, records []wire.Record) (items []feed.Item, of []int, err error) {
	part := h.parts[name]
	held, err := h.brought(ctx, name, records)
	if err != nil {
		return nil, nil, err
	}
	for n, r := range records {
		item := feed.Item{Collection: part.Called, Record: r.ID, Revision: r.Revision, Gone: r.Removed || r.Withdrawn, EditedAt: r.EditedAt, Author: r.Author}
		if !item.Gone {
			fields, err := record.Parse(r.Fields)
			if err != nil {
				return nil, nil, err
			}
			fits := false
			if item.Values, fits, err = part.Values(fields); err != nil {
				return nil, nil, err
			}
			item.Gone = !fits
		}
		if item.Gone {
			if _, has := held[r.ID]; !has {
				continue
			}
			item.Values, item.Author = nil, "" // it may be nobody's business any more who did what
			if item.EditedAt.IsZero() {
				item.EditedAt = h.db.Now()
			}
		}
		items, of = append(items, item), append(of, n)
	}
	return items, of, nil
}

// mayHave notes, before it is brought there, what the destination may have from now on: should this instance end in between and the record go
// meanwhile, the destination must hear of it.
func (h *holding) mayHave(ctx context.Context, name string, items []feed.Item) error {
	var ids []string
	for _, item := range items {
		if !item.Gone {
			ids = append(ids, item.Record.String())
		}
	}
	if len(ids) == 0 {
		return nil
	}
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := h.mine(tx.ExecContext(ctx, `UPDATE feeds SET holder = holder WHERE name = $1 AND holder = $2`, h.name, h.me)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO feed_held (feed, collection, record, revision, round) SELECT $1, $2, u, 0, $4 FROM unnest($3::uuid[]) u
			ON CONFLICT DO NOTHING`, h.name, name, ids, h.at.Round)
		return err
	})
}

// wholeRound ends a round: what the destination has and this round has not met is gone from the feed.
func (h *holding) wholeRound(ctx context.Context) error {
	for {
		var rows []struct {
			Collection string    `db:"collection"`
			Record     uuid.UUID `db:"record"`
		}
		if err := h.db.SelectContext(ctx, &rows, `SELECT collection, record FROM feed_held WHERE feed = $1 AND round < $2 ORDER BY collection, record LIMIT 500`,
			h.name, h.at.Round); err != nil {
			return err
		}
		if len(rows) == 0 {
			break
		}
		byCollection := map[string][]uuid.UUID{}
		for _, r := range rows {
			byCollection[r.Collection] = append(byCollection[r.Collection], r.Record)
		}
		for _, name := range slices.Sorted(maps.Keys(byCollection)) {
			if err := h.letGo(ctx, name, byCollection[name]); err != nil {
				return err
			}
		}
	}
	if sweeper, can := h.out.(outlet.Sweeper); can {
		for _, name := range slices.Sorted(maps.Keys(h.parts)) {
			if err := sweeper.Sweep(ctx, h.parts[name].Called, h.at.Round); err != nil {
				return err
			}
		}
	}
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		return h.mine(tx.ExecContext(ctx, `UPDATE feeds SET whole = $3, error = '', failed_at = NULL, next_try = NULL, tries = 0 WHERE name = $1 AND holder = $2`,
			h.name, h.me, h.at.Round))
	})
}

// letGo tells the destination that records are gone, of collections that the feed still carries.
func (h *holding) letGo(ctx context.Context, name string, ids []uuid.UUID) error {
	items := make([]feed.Item, len(ids))
	for n, id := range ids {
		items[n] = feed.Item{Record: id, Gone: true, EditedAt: h.db.Now()}
	}
	if part := h.parts[name]; part != nil {
		for n := range items {
			items[n].Collection = part.Called
		}
		done, _, err := h.out.Deliver(ctx, outlet.Batch{Collection: part.Called, Round: h.at.Round, Items: items})
		if kept := h.keep(ctx, name, items[:done], nil, nil); kept != nil || err != nil {
			return errors.Join(kept, err)
		}
		return nil
	}
	return h.keep(ctx, name, items, nil, nil)
}
