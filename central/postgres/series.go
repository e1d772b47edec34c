package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"

	"homing/core/definition"
	"homing/core/desk"
)

// Sequence is the name of the sequence of a series. A sequence never gives a number twice, whatever becomes of the
// transaction; so numbers have gaps.
func Sequence(series desk.Series) string {
	sum := sha256.Sum256([]byte(series.Collection + " " + series.Field))
	return "series_" + hex.EncodeToString(sum[:12])
}

// makeSeries makes the sequences of a definition.
func (t *Tx) makeSeries(ctx context.Context, c *definition.Collection) error {
	all := c.SeriesFields()
	for _, name := range slices.Sorted(maps.Keys(all)) {
		sequence := Sequence(desk.Series{Collection: c.Definition.Collection, Field: name})
		if _, err := t.ExecContext(ctx, fmt.Sprintf(`CREATE SEQUENCE IF NOT EXISTS %s START WITH %d`, sequence,
			all[name].First)); err != nil {
			return err
		}
	}
	return nil
}

// Draw is [changes.Loading.Draw]. Those who draw do not wait for each other, but for whoever moves the series on.
func (t *Tx) Draw(ctx context.Context, series desk.Series, count int) ([]int64, error) {
	sequence := Sequence(series)
	if _, err := t.ExecContext(ctx, `SELECT pg_advisory_xact_lock_shared(7073, hashtext($1))`, sequence); err != nil {
		return nil, err
	}
	var numbers []int64
	err := t.SelectContext(ctx, &numbers, fmt.Sprintf(`SELECT nextval('%s') FROM generate_series(1, $1)`, sequence), count)
	return numbers, err
}

// Advance is [changes.Loading.Advance]. PostgreSQL moves a sequence forward or back as it is told, so nobody else may
// move it between the look and the move.
func (t *Tx) Advance(ctx context.Context, series desk.Series, behind int64) error {
	sequence := Sequence(series)
	if _, err := t.ExecContext(ctx, `SELECT pg_advisory_xact_lock(7073, hashtext($1))`, sequence); err != nil {
		return err
	}
	_, err := t.ExecContext(ctx, fmt.Sprintf(`SELECT setval('%[1]s', $1::bigint) FROM %[1]s
		WHERE last_value < $1 OR (last_value = $1 AND NOT is_called)`, sequence), behind)
	return err
}

// maxDirect is how many numbers one call of DirectNumbers takes at most.
const maxDirect = 10_000

// DirectNumbers is [changes.Loading.DirectNumbers]. Each step of the sequence stands for a block of numbers, so that
// nobody else gets a number in between.
func (t *Tx) DirectNumbers(ctx context.Context, count int) (first int64, err error) {
	if count == 0 {
		return 0, nil
	}
	if count > maxDirect {
		return 0, fmt.Errorf("%d changes at once; %d is the most", count, maxDirect)
	}
	err = t.QueryRowxContext(ctx, `SELECT nextval('direct_numbers') * $1`, maxDirect).Scan(&first)
	return first, err
}
