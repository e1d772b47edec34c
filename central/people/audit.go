package people

import (
	"context"
	"time"

	"homing/central/fleet"
	"homing/central/postgres"
)

// Act is something that is done to people, devices or codes.
type Act string

// The acts.
const (
	ActAddWorker      Act = "worker added"
	ActRole           Act = "role given"
	ActTerritories    Act = "territories set"
	ActPassword       Act = "password set"
	ActDisable        Act = "worker disabled"
	ActEnable         Act = "worker enabled"
	ActRemoveWorker   Act = "worker removed"
	ActAdmitWorker    Act = "worker admitted"
	ActSignIn         Act = "signed in"
	ActSignOut        Act = "signed out"
	ActEndSignIn      Act = "sign-in ended"
	ActIssueCode      Act = "code issued"
	ActVoidCode       Act = "code voided"
	ActEnrol          Act = "device enrolled"
	ActJoin           Act = "device joined"
	ActLeave          Act = "device left"
	ActRevoke         Act = "device revoked"
	ActReadmit        Act = "device readmitted"
	ActAdmitDevice    Act = "device admitted"
	ActNewIncarnation Act = "store renewed"
	ActRename         Act = "device renamed"
	ActAskVerify      Act = "device asked to verify"
	ActAskErase       Act = "device asked to erase its store"
	ActTakeBack       Act = "errand taken back"
	ActSet            Act = "setting said"
	ActUnset          Act = "setting taken back"
	ActTeams          Act = "device put into teams"
)

// Acts are all acts.
var Acts = []Act{ActAddWorker, ActRole, ActTerritories, ActPassword, ActDisable, ActEnable, ActRemoveWorker,
	ActAdmitWorker, ActSignIn, ActSignOut, ActEndSignIn, ActIssueCode, ActVoidCode, ActEnrol, ActJoin, ActLeave, ActRevoke,
	ActReadmit, ActAdmitDevice, ActNewIncarnation, ActRename, ActAskVerify, ActAskErase, ActTakeBack, ActSet, ActUnset, ActTeams}

// Done is one line of the audit list.
type Done struct {
	Place   int64     `json:"place" db:"place" doc:"Its number in the list."`
	At      time.Time `json:"at" db:"at"`
	Worker  string    `json:"worker" db:"worker" doc:"Who did it; empty for whoever runs central."`
	Address string    `json:"address" db:"address" doc:"The address that it came from; empty for whoever runs central."`
	Act     Act       `json:"act" db:"act"`
	About   string    `json:"about" db:"about" doc:"The worker, device or code that it was done to."`
	Detail  string    `json:"detail,omitempty" db:"detail"`
}

// note writes a line of the audit list, in the transaction of what it tells of.
func (c *People) note(ctx context.Context, tx *postgres.Tx, act Act, about, detail string) error {
	by := fleet.ActorOf(ctx)
	_, err := tx.ExecContext(ctx, `INSERT INTO audit (at, worker, address, act, about, detail) VALUES ($1, $2, $3, $4, $5, $6)`,
		c.db.Now(), by.Name, by.Address, act, about, detail)
	return err
}

// Audit gives the latest lines of the audit list before a place, the latest first; all when it is 0. About keeps it
// to one worker, device or code, by whom or to whom.
func (c *People) Audit(ctx context.Context, about string, before int64, limit int) ([]Done, error) {
	all := []Done{}
	err := c.db.SelectContext(ctx, &all, `SELECT place, at, worker, address, act, about, detail FROM audit
		WHERE ($1 = '' OR about = $1 OR worker = $1) AND ($2::bigint = 0 OR place < $2::bigint) 
		ORDER BY place DESC LIMIT $3`, about, before, limit)
	for n := range all {
		all[n].At = all[n].At.UTC()
	}
	return all, err
}
