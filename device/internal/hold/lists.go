package hold

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/query"
)

// indexLists makes lists quick that are sorted or filtered by what the definition names, and finding a record by its key
// or label. What it no longer names costs nothing any more.
func indexLists(ctx context.Context, tx *sqlx.Tx, d definition.Definition) error {
	start := "list_" + d.Collection + "__"
	wanted := map[string]string{}
	add := func(expression string) {
		sum := sha256.Sum256([]byte(expression))
		wanted[start+hex.EncodeToString(sum[:8])] = expression
	}
	for _, name := range d.Lists {
		expression, _ := query.ListKey(d, name, query.SQLite)
		add(expression)
	}
	if d.Key != "" {
		add(KeyText(d.Key))
	}
	if d.Coverage != nil {
		add(oneText(d))
		add(KeyText(d.Coverage.Period))
	}
	if expression, known := query.LabelKey(d, query.SQLite); known {
		add(expression)
	}
	var there []string
	if err := tx.SelectContext(ctx, &there, `SELECT name FROM sqlite_master WHERE type = 'index' AND substr(name, 1, ?) = ?`, len(start),
		start); err != nil {
		return err
	}
	for _, name := range there {
		if wanted[name] == "" {
			if _, err := tx.ExecContext(ctx, `DROP INDEX `+name); err != nil {
				return err
			}
		}
		delete(wanted, name)
	}
	// SQLite takes the primary key for a collection unless another index begins with it, too.
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if _, err := tx.ExecContext(ctx, fmt.Sprintf(`CREATE INDEX %s ON records (collection, %s, id) WHERE collection = '%s' AND NOT removed`, name,
			wanted[name], d.Collection)); err != nil {
			return err
		}
	}
	return nil
}
