package terminal

import (
	"homing/core/change"
	"homing/core/merge"
)

// What became of an edit that met others, at central and on a device.
const (
	HeldWords   = ", but held for a person where others had changed the same field (homing conflicts list)"
	MergedWords = ", merged with what others changed meanwhile"
)

// MetOthers says what became of an edit whose author had not seen the latest state.
func MetOthers(decisions []change.Decision) string {
	for _, decision := range decisions {
		if decision.Rule == string(merge.Ask) || decision.Rule == string(merge.AskRemoval) {
			return HeldWords
		}
	}
	if len(decisions) > 0 {
		return MergedWords
	}
	return ""
}
