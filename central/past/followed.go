package past

import (
	"context"
	"encoding/json"
	"time"

	"homing/central/changes"
)

// FollowedLine is a line of the list of what became of follow-ups.
type FollowedLine struct {
	Place int64 `json:"place" db:"place" doc:"Its number in the list."`
	changes.Followed
}

// FollowedOf says which lines are asked for. What is empty or 0 asks for all.
type FollowedOf struct {
	Collection, Rule, Outcome string
	Before                    int64 // only lines before this place
	Limit                     int
}

// FollowUps gives what became of follow-ups, the latest first.
func (p *Past) FollowUps(ctx context.Context, of FollowedOf) ([]FollowedLine, error) {
	var rows []struct {
		FollowedLine
		Text []byte `db:"reasons"`
	}
	err := p.db.SelectContext(ctx, &rows, `SELECT * FROM follow_ups WHERE ($1 = '' OR collection = $1) AND ($2 = '' OR rule = $2)
		AND ($3 = '' OR outcome = $3) AND ($4::bigint = 0 OR place < $4::bigint) ORDER BY place DESC LIMIT $5`,
		of.Collection, of.Rule, of.Outcome, of.Before, of.Limit)
	all := make([]FollowedLine, len(rows))
	for n, row := range rows {
		if len(row.Text) > 0 && err == nil {
			err = json.Unmarshal(row.Text, &row.Reasons)
		}
		all[n] = row.FollowedLine
		all[n].At = all[n].At.UTC()
	}
	return all, err
}

// FollowedCount is how often one follow-up came to one outcome.
type FollowedCount struct {
	Collection string    `json:"collection" db:"collection"`
	Rule       string    `json:"rule" db:"rule"`
	Outcome    string    `json:"outcome" db:"outcome"`
	Times      int       `json:"times" db:"times"`
	Last       time.Time `json:"last" db:"last"`
}

// FollowUpCounts gives how often follow-ups came to what.
func (p *Past) FollowUpCounts(ctx context.Context) ([]FollowedCount, error) {
	all := []FollowedCount{}
	err := p.db.SelectContext(ctx, &all, `SELECT collection, rule, outcome, count(*) AS times, max(at) AS last FROM follow_ups
		GROUP BY collection, rule, outcome ORDER BY collection, rule, outcome`)
	for n := range all {
		all[n].Last = all[n].Last.UTC()
	}
	return all, err
}
