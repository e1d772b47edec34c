package people

import (
	"context"
	"strconv"

	"github.com/jmoiron/sqlx"

	"homing/device/internal/file"
)

// Whoever takes over a device saves under a new source. Edits of one source count as having seen the earlier ones of it,
// which is not so of an edit by somebody who was not shown what another had put aside; what their author saw under an
// earlier source, they name. The numbers of a source follow each other without a gap, so that two copies of a store that
// both save under it meet in a number, and central notices.

// originTables hold the changes whose source is the present one while their origin is empty.
var originTables = []string{"outbox", "travelled"}

// goUnder lets the store save under a source from now on. What was saved so far keeps the one that it had.
func goUnder(ctx context.Context, tx *sqlx.Tx, now, old string) error {
	for _, table := range originTables {
		if _, err := tx.ExecContext(ctx, `UPDATE `+table+` SET origin = ? WHERE origin = ''`, old); err != nil {
			return err
		}
	}
	return file.SetFact(ctx, tx, file.FactIncarnation, now)
}

// switchSource lets a worker save under a source of their own. One under which nobody has saved yet is theirs, whoever it was
// for: so sources are as many as there were turns in which somebody saved, and not as many as there were turns.
func (s *House) switchSource(ctx context.Context, tx *sqlx.Tx, name string) error {
	known, err := file.Facts(ctx, tx)
	if err != nil || known[file.FactSourceOf] == name {
		return err
	}
	var last int64
	if err := tx.GetContext(ctx, &last, `SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'outbox'), 0)`); err != nil {
		return err
	}
	number := strconv.FormatInt(last, 10)
	if known[file.FactSourceOf] != "" && known[file.FactSourceFrom] != number {
		if err := goUnder(ctx, tx, s.NewID().String(), known[file.FactIncarnation]); err != nil {
			return err
		}
		for fact, value := range map[string]string{file.FactRenewed: "true", file.FactAnswered: ""} {
			if err := file.SetFact(ctx, tx, fact, value); err != nil {
				return err
			}
		}
	}
	return ownSource(ctx, tx, name, number)
}

// ownSource notes who saves under the present source, and what was numbered before.
func ownSource(ctx context.Context, tx *sqlx.Tx, name, last string) error {
	if err := file.SetFact(ctx, tx, file.FactSourceOf, name); err != nil {
		return err
	}
	return file.SetFact(ctx, tx, file.FactSourceFrom, last)
}

// FreshSource gives the source under which changes of a worker go that another store has used the numbers of; empty
// for the present one.
func (s *House) FreshSource(ctx context.Context, tx *sqlx.Tx, name string) (string, error) {
	owner, err := file.Fact(ctx, tx, file.FactSourceOf)
	if err != nil || owner == name || owner == "" {
		return "", err
	}
	return s.NewID().String(), file.SetFact(ctx, tx, file.FactRenewed, "true")
}

// NewIncarnation gives the store another identity. What it has saved so far keeps the old one as its source.
func NewIncarnation(ctx context.Context, tx *sqlx.Tx, now, old string) error {
	if err := goUnder(ctx, tx, now, old); err != nil {
		return err
	}
	for name, value := range map[string]string{file.FactRenewed: "true", file.FactAnswered: "", file.FactCopied: ""} {
		if err := file.SetFact(ctx, tx, name, value); err != nil {
			return err
		}
	}
	worker, err := file.Fact(ctx, tx, file.FactWorker)
	if err != nil {
		return err
	}
	return ownSource(ctx, tx, worker, "")
}
