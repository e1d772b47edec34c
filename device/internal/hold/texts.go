package hold

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/query"
	"homing/device/internal/file"
)

// A search looks for words anywhere in the values of a record. Where a definition asks for quick searches, the texts of a
// collection stay in memory once something was searched, and what may fit is found there; what does fit, and in which
// order, the database says. In memory, since an index in the file would keep the words of what was withdrawn or put
// aside. Which records are others by now, the file says itself, whichever program wrote them: a trigger notes their ids.

const (
	// mostTexts bounds what a collection may hold in memory, in bytes; larger ones are searched in the file.
	mostTexts = 64 << 20
	// mostFitting is how many records are handed to the database by their ids; where more may fit, going through the
	// file finds a page of them soon.
	mostFitting = 2000
	// keptTouched is how many of the ids that triggers note are kept. Who has not looked for longer begins anew.
	keptTouched = 10_000
)

// texts is what is in memory of one collection.
type texts struct {
	mu      sync.Mutex
	seen    int64 // of the notes, up to here
	loaded  bool
	folded  []byte
	places  []place
	byID    map[uuid.UUID]int // place
	useless int               // bytes of folded that nothing stands for any more
}

// place is where the text of a record stands.
type place struct {
	id         uuid.UUID
	start, end int
}

// watchTexts lets the file note which records of a collection change, where searches are to be quick.
func watchTexts(ctx context.Context, tx *sqlx.Tx, d definition.Definition) error {
	for _, event := range []string{"INSERT", "UPDATE"} {
		name, of := "search_"+d.Collection+"__"+strings.ToLower(event), ""
		if _, err := tx.ExecContext(ctx, `DROP TRIGGER IF EXISTS `+name); err != nil {
			return err
		}
		if !d.Searched {
			continue
		}
		if event == "UPDATE" {
			of = " OF fields, removed"
		}
		if _, err := tx.ExecContext(ctx, fmt.Sprintf(`CREATE TRIGGER %s AFTER %s%s ON records WHEN NEW.collection = '%s'
			BEGIN INSERT INTO touched (collection, id) VALUES (NEW.collection, NEW.id); END`, name, event, of, d.Collection)); err != nil {
			return err
		}
	}
	return nil
}

// ForgetTouched lets go of notes that nobody needs any more.
func ForgetTouched(ctx context.Context, tx *sqlx.Tx) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM touched WHERE n <= (SELECT max(n) FROM touched) - ?`, keptTouched)
	return err
}

// fitting gives the records that may hold all words, which is all that do. It is not ok where memory does not tell: the
// definition does not ask for it, the collection is too large, or too many fit.
func (s *Shelf) fitting(ctx context.Context, c *definition.Collection, search string) (ids []string, ok bool, err error) {
	words := strings.Fields(search)
	if !c.Searched || len(words) == 0 || strings.ContainsAny(search, `"\`) { // JSON text escapes these
		return nil, false, nil
	}
	t := s.textsOf(c.Definition.Collection)
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.follow(ctx, s.DB, c.Definition.Collection); err != nil || !t.loaded {
		return nil, false, err
	}
	slices.SortFunc(words, func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	wanted := make([][]byte, len(words))
	for n, word := range words {
		wanted[n] = appendFolded(nil, []byte(word))
	}
	for _, at := range t.places {
		text := t.folded[at.start:at.end]
		if slices.ContainsFunc(wanted, func(word []byte) bool { return !bytes.Contains(text, word) }) {
			continue
		}
		if len(ids) == mostFitting {
			return nil, false, nil
		}
		ids = append(ids, at.id.String())
	}
	return ids, true, nil
}

// ForgetTexts lets go of what is in memory, which may say what somebody has put aside.
func (s *Shelf) ForgetTexts() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.texts)
}

func (s *Shelf) textsOf(collection string) *texts {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.texts[collection] == nil {
		s.texts[collection] = &texts{}
	}
	return s.texts[collection]
}

// follow takes in what has changed since it was called last.
func (t *texts) follow(ctx context.Context, db *sqlx.DB, collection string) error {
	var first, last int64
	if err := db.QueryRowxContext(ctx, `SELECT coalesce(min(n), 0), coalesce(max(n), 0) FROM touched`).Scan(&first, &last); err != nil {
		return file.StoreError(err)
	}
	if !t.loaded || last < t.seen || first > t.seen+1 || t.useless > len(t.folded)/2 {
		return t.load(ctx, db, collection, last)
	}
	if last == t.seen {
		return nil
	}
	rows, err := db.QueryxContext(ctx, `SELECT r.id, r.fields FROM records r WHERE r.collection = ? AND r.id IN (SELECT id FROM touched
		WHERE n > ? AND n <= ? AND collection = ?)`, collection, t.seen, last, collection)
	if err != nil {
		return file.StoreError(err)
	}
	if err := t.read(rows); err != nil {
		return err
	}
	t.seen = last
	return nil
}

// load reads the texts of all records.
func (t *texts) load(ctx context.Context, db *sqlx.DB, collection string, last int64) error {
	t.loaded, t.seen, t.folded, t.places, t.byID, t.useless = false, last, nil, nil, map[uuid.UUID]int{}, 0
	var size int64
	if err := db.GetContext(ctx, &size, `SELECT coalesce(sum(length(fields)), 0) FROM records WHERE collection = ?`, collection); err != nil {
		return file.StoreError(err)
	}
	if size > mostTexts {
		return nil
	}
	t.folded = make([]byte, 0, size+size/8)
	rows, err := db.QueryxContext(ctx, `SELECT id, fields FROM records WHERE collection = ? AND NOT removed`, collection)
	if err != nil {
		return file.StoreError(err)
	}
	if err := t.read(rows); err != nil {
		return err
	}
	t.loaded = true
	return nil
}

func (t *texts) read(rows *sqlx.Rows) error {
	defer rows.Close()
	var id, fields []byte
	for rows.Next() {
		if err := rows.Scan(&id, &fields); err != nil {
			return file.StoreError(err)
		}
		parsed, err := uuid.ParseBytes(id)
		if err != nil {
			return fmt.Errorf("%w: the id %q", file.ErrDamaged, id)
		}
		t.put(parsed, fields)
	}
	return file.StoreError(rows.Err())
}

func (t *texts) put(id uuid.UUID, text []byte) {
	start := len(t.folded)
	t.folded = appendFolded(t.folded, text)
	at := place{id, start, len(t.folded)}
	if n, known := t.byID[id]; known {
		t.useless += t.places[n].end - t.places[n].start
		t.places[n] = at
		return
	}
	t.byID[id] = len(t.places)
	t.places = append(t.places, at)
}

// appendFolded adds a text with each letter as the first of those that differ from it in their case alone, as Unicode's
// simple folding has them: SQLite's LIKE compares so here, and what it finds must be found.
func appendFolded(to, text []byte) []byte {
	for len(text) > 0 {
		if b := text[0]; b < utf8.RuneSelf {
			if b >= 'a' && b <= 'z' {
				b -= 'a' - 'A'
			}
			to, text = append(to, b), text[1:]
			continue
		}
		r, size := utf8.DecodeRune(text)
		first := r
		for other := unicode.SimpleFold(r); other != r; other = unicode.SimpleFold(other) {
			first = min(first, other)
		}
		to, text = utf8.AppendRune(to, first), text[size:]
	}
	return to
}

// findFitting is a search among the records that memory names.
func (s *Shelf) findFitting(ctx context.Context, c *definition.Collection, q query.Query, ids []string, found *Found) error {
	condition, args, order := q.SQL(c.Definition, query.SQLite)
	text, err := json.Marshal(ids)
	if err != nil {
		return err
	}
	from := fmt.Sprintf(` FROM records WHERE collection = '%s' AND id IN (SELECT value FROM json_each(?)) AND +removed = 0 AND %s ORDER BY %s`,
		c.Definition.Collection, condition, order)
	return s.findAll(ctx, c, q.Counted(), from, append([]any{string(text)}, args...), found)
}
