// Package rights says what each role may do. Push, HTTP, the command line and the console all ask here.
package rights

import "slices"

// Role is what a worker is.
type Role string

// The roles, each with all the rights of the one before it.
const (
	Reader Role = "reader"
	Worker Role = "worker"
	Lead   Role = "lead"
	Admin  Role = "admin"
)

// Roles are all the roles, weakest first.
var Roles = []Role{Reader, Worker, Lead, Admin}

// Valid says whether r is a role.
func (r Role) Valid() bool { return slices.Contains(Roles, r) }

// Above says whether the role has rights that the other has not.
func (r Role) Above(other Role) bool { return slices.Index(Roles, r) > slices.Index(Roles, other) }

// Action is something that needs a right.
type Action string

// The actions.
const (
	ReadRecords   Action = "read records"
	ChangeRecords Action = "change records"
	EnrolDevices  Action = "enrol devices"
	WatchFleet    Action = "see the devices and exchanges of others"
	ManageDevices Action = "revoke devices"
	ManageWorkers Action = "manage workers"
	Define        Action = "define collections"
)

var least = map[Action]Role{
	ReadRecords:   Reader,
	ChangeRecords: Worker,
	EnrolDevices:  Worker,
	WatchFleet:    Lead,
	ManageDevices: Lead,
	ManageWorkers: Admin,
	Define:        Admin,
}

// May says whether the role has the right to the action.
func (r Role) May(action Action) bool {
	need, known := least[action]
	return known && r.Valid() && slices.Index(Roles, r) >= slices.Index(Roles, need)
}

// All is the key of whoever covers every territory, and of a record that everybody covers.
const All = "*"

// Person is somebody who asks for something: who they are, what they may, and which territories they hold.
type Person struct {
	Name        string   `json:"name"`
	Role        Role     `json:"role"`
	Territories []string `json:"territories" doc:"The territories that the worker holds; * stands for all."`
}

// Covers says whether somebody who holds some territories covers a record that falls into others.
func Covers(held, falls []string) bool {
	if slices.Contains(held, All) || slices.Contains(falls, All) {
		return true
	}
	return slices.ContainsFunc(falls, func(key string) bool { return slices.Contains(held, key) })
}
