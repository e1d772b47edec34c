package rights_test

import (
	"testing"

	"homing/core/rights"
)

func TestRolesGrow(t *testing.T) {
	actions := map[rights.Action]int{rights.ReadRecords: 0, rights.ChangeRecords: 1, rights.EnrolDevices: 1,
		rights.WatchFleet: 2, rights.ManageDevices: 2, rights.ManageWorkers: 3, rights.Define: 3}
	for action, least := range actions {
		for n, role := range rights.Roles {
			if got := role.May(action); got != (n >= least) {
				t.Errorf("%s may %s: %v", role, action, got)
			}
		}
	}
	for _, role := range []rights.Role{"", "king", "Admin"} {
		if role.Valid() || role.May(rights.ReadRecords) {
			t.Errorf("%q is a role", role)
		}
	}
	if rights.Admin.May("fly") {
		t.Error("an admin may do what is no action")
	}
}

func TestCovers(t *testing.T) {
	for _, test := range []struct {
		held, falls []string
		want        bool
	}{
		{nil, nil, false}, {[]string{"a"}, nil, false}, {nil, []string{"a"}, false},
		{[]string{"a", "b"}, []string{"b", "c"}, true}, {[]string{"a"}, []string{"A"}, false},
		{[]string{"*"}, nil, true}, {[]string{"*"}, []string{"a"}, true}, {nil, []string{"*"}, true},
	} {
		if got := rights.Covers(test.held, test.falls); got != test.want {
			t.Errorf("%v covers %v: %v", test.held, test.falls, got)
		}
	}
}
