// Package fleet holds who and what takes part: workers, their devices, and the exchanges of these.
package fleet

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/rights"
	"homing/core/settings"
	"homing/core/sight"
)

// Person is somebody who has signed in, or everybody when central is open.
type Person = rights.Person

// Everything is a person who may see and do everything, under a name.
func Everything(name string) Person {
	return Person{Name: name, Role: rights.Admin, Territories: []string{rights.All}}
}

// Keys are the keys of territories, read from a JSON list.
type Keys []string

// Scan reads what array_to_json gives.
func (k *Keys) Scan(value any) error {
	switch text := value.(type) {
	case string:
		switch text { // what stands in most rows
		case `[]`:
			*k = Keys{}
			return nil
		case `["*"]`:
			*k = Keys{rights.All}
			return nil
		}
		return json.Unmarshal([]byte(text), k)
	case []byte:
		return json.Unmarshal(text, k)
	}
	return fmt.Errorf("territories come as %T", value)
}

// Worker is somebody with an account.
type Worker struct {
	Name        string      `json:"name" db:"name"`
	Role        rights.Role `json:"role" db:"role" enum:"reader,worker,lead,admin"`
	Territories Keys        `json:"territories" db:"territories"`
	Devices     int         `json:"devices" db:"devices"`
	CreatedAt   time.Time   `json:"created_at" db:"created_at"`
	SignsIn     bool        `json:"signs_in" db:"signs_in" doc:"Has a password."`
	WhileOpen   bool        `json:"while_open,omitempty" db:"while_open" doc:"Added while central was open to everybody; signs in and enrols nothing until an admin admits them."`
	DisabledAt  *time.Time  `json:"disabled_at,omitempty" db:"disabled_at" doc:"Since when the worker may not sign in; their devices are shut out."`
	RemovedAt   *time.Time  `json:"removed_at,omitempty" db:"removed_at" doc:"Since when the account is gone. Records and history keep the name."`
	MayDeliver  bool        `json:"may_deliver,omitempty" db:"may_deliver" doc:"Though shut out, what their devices have queued is taken."`
}

// Actor is who does something, and where from.
type Actor struct {
	Name    string // empty for whoever runs central
	Address string
	Agent   string
	Open    bool // central is open to everybody
}

type actorKey struct{}

// Acting gives a context in which an actor does what is done.
func Acting(ctx context.Context, actor Actor) context.Context {
	return context.WithValue(ctx, actorKey{}, actor)
}

// ActorOf is who does what is done; nobody stands for whoever runs central.
func ActorOf(ctx context.Context) Actor {
	actor, _ := ctx.Value(actorKey{}).(Actor)
	return actor
}

// Device is an enrolled device.
type Device struct {
	ID          uuid.UUID    `json:"id" db:"id" format:"uuid"`
	Name        string       `json:"name" db:"name"`
	Worker      string       `json:"worker" db:"worker"`
	Role        rights.Role  `json:"role" db:"role"`
	Territories Keys         `json:"territories" db:"-" doc:"Those that any of its workers holds."`
	People      sight.Askers `json:"people" db:"-" doc:"The workers who may use the device, whoever enrolled it first."`
	Incarnation uuid.UUID    `json:"incarnation" db:"incarnation" format:"uuid"`
	WhileOpen   bool         `json:"while_open,omitempty" db:"while_open" doc:"Enrolled while central was open to everybody; shut out otherwise, unless an admin admits it."`
	Deliverers  sight.Askers `json:"-" db:"-"` // shut out, but what they have queued on the device is taken
	// Since is when central first heard of a store of the device: it has seen nothing of before. Zero where that is not
	// known.
	Since time.Time `json:"-" db:"-"`
	// Fresh is a moment before which the device can have held nothing, and since which its people are who they are; zero
	// where that is not known.
	Fresh      time.Time   `json:"-" db:"-"`
	Past       []uuid.UUID `json:"-" db:"-"` // all incarnations that it has had, the present one among them
	Agent      string      `json:"agent" db:"agent"`
	EnrolledAt time.Time   `json:"enrolled_at" db:"enrolled_at"`
	RevokedAt  *time.Time  `json:"revoked_at,omitempty" db:"revoked_at"`
	MayDeliver bool        `json:"may_deliver,omitempty" db:"may_deliver" doc:"Though revoked, it may still send what it has queued; it gets nothing."`
	SeenAt     *time.Time  `json:"seen_at,omitempty" db:"seen_at"`
	OffsetMS   *int64      `json:"offset_ms,omitempty" db:"offset_ms" doc:"What to add to the device's clock to get central's, as last measured; positive when the device is behind."`
	ErrorMS    *int64      `json:"error_ms,omitempty" db:"error_ms"`
	Unsent     *int64      `json:"unsent,omitempty" db:"unsent" doc:"Changes without an answer in its outbox, as it last reported."`
	Refused    *int64      `json:"refused,omitempty" db:"refused" doc:"Refused changes in its outbox, as it last reported."`
	Waiting    *int64      `json:"waiting,omitempty" db:"waiting" doc:"Waiting changes in its outbox, as it last reported."`
	Errands    Errands     `json:"errands,omitempty" db:"errands" doc:"What it is asked to do with its next exchange, and what became of that."`
	Stored     *int64      `json:"stored,omitempty" db:"stored" doc:"Bytes that its store takes on its disk, as it last reported."`
	Teams      Keys        `json:"teams" db:"teams" doc:"The teams that it is in; settings may be said of a team."`
	// Settings are what is said of it, and Applied what it has said that it goes by.
	Settings  settings.Values `json:"settings,omitempty" db:"-" doc:"What it is to go by."`
	Applied   string          `json:"applied,omitempty" db:"applied" doc:"The digest of the settings that it has said that it goes by."`
	AppliedAt *time.Time      `json:"applied_at,omitempty" db:"applied_at" doc:"Since when, by its clock."`
	Unknown   Keys            `json:"unknown_settings,omitempty" db:"unknown_settings" doc:"Settings that it does not know, or cannot take."`
	Differs   bool            `json:"differs,omitempty" db:"-" doc:"It has not said yet that it goes by its settings."`
	Lag       int64           `json:"lag" db:"lag" doc:"Accepted changes behind the heads that the device has not pulled yet."`
	Last      *Exchange       `json:"last_exchange,omitempty" db:"-"`
}

// Exchange is one run of a device with central, as central saw it.
type Exchange struct {
	ID        uuid.UUID `json:"id" db:"id" format:"uuid"`
	Device    uuid.UUID `json:"device" db:"device" format:"uuid"`
	Name      string    `json:"device_name" db:"name"`
	Worker    string    `json:"worker" db:"worker"`
	StartedAt time.Time `json:"started_at" db:"started_at"`
	LastAt    time.Time `json:"last_at" db:"last_at"`
	Batches   int64     `json:"batches" db:"batches"`
	Applied   int64     `json:"applied" db:"applied"`
	Merged    int64     `json:"merged" db:"merged"`
	Held      int64     `json:"held" db:"held"`
	Refused   int64     `json:"refused" db:"refused"`
	Waiting   int64     `json:"waiting" db:"waiting"`
	Repeated  int64     `json:"repeated" db:"repeated" doc:"Changes that had been answered before."`
	Delivered int64     `json:"delivered" db:"delivered" doc:"Records that the device pulled."`
	BytesIn   int64     `json:"bytes_in" db:"bytes_in"`
	BytesOut  int64     `json:"bytes_out" db:"bytes_out"`
}

// Event tells listeners that something has changed and may be asked for.
type Event struct {
	Heads   map[string]int64 `json:"heads,omitempty"`   // by collection whose head has moved, where it is now; 0 when the definition changed
	Devices bool             `json:"devices,omitempty"` // a device did something
	People  bool             `json:"people,omitempty"`  // somebody, a sign-in or a device may have been shut out
	Moved   bool             `json:"moved,omitempty"`   // the database has a new generation
}
