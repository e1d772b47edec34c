package merge

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"strings"

	"homing/core/record"
)

// Part is what of a record came after a revision, for somebody who has it as it was then.
type Part struct {
	Fields record.Fields // null stands for a value that is gone
	Marks  PartMarks
}

// PartMarks are the marks that came after the revision; what is not a mark of a field stands as it is now.
type PartMarks struct {
	Presence Mark               `json:"presence,omitzero"`
	Fields   map[string]Mark    `json:"fields,omitempty"`
	Disputes map[string]Dispute `json:"disputes,omitempty"`
	Carried  Mark               `json:"carried,omitzero"`
}

var gone = json.RawMessage("null")

// After gives what of a record came after a revision. It is not ok where a part would not say it: the record itself
// came after that.
func After(since int64, fields record.Fields, marks Marks) (part Part, ok bool) {
	if marks.Base.Revision > since {
		return part, false
	}
	part = Part{record.Fields{}, PartMarks{marks.Presence, map[string]Mark{}, marks.Disputes, marks.Carried}}
	for path, mark := range marks.Fields {
		if mark.Revision <= since && len(mark.Met) == 0 { // what a value has met comes without a revision of its own
			continue
		}
		part.Marks.Fields[path] = mark
		name, _, _ := strings.Cut(path, "/")
		if part.Fields[name] = fields[name]; fields[name] == nil {
			part.Fields[name] = gone
		}
	}
	return part, true
}

// Whole is a record as it is once a part is laid over what one has of it. That it is right, only [Digest] tells: what
// came without a mark, such as by a new definition, is in no part.
func (p Part) Whole(fields record.Fields, marks Marks) (record.Fields, Marks) {
	fields = maps.Clone(fields)
	for name, value := range p.Fields {
		if fields[name] = value; string(value) == string(gone) {
			delete(fields, name)
		}
	}
	whole := Marks{Base: marks.Base, Presence: p.Marks.Presence, Fields: maps.Clone(marks.Fields), Disputes: p.Marks.Disputes,
		Carried: p.Marks.Carried}
	for path := range p.Marks.Fields { // a field that was set as a whole takes the marks of its parts away
		maps.DeleteFunc(whole.Fields, func(part string, _ Mark) bool { return strings.HasPrefix(part, path+"/") })
	}
	for path, mark := range p.Marks.Fields {
		if whole.Fields == nil {
			whole.Fields = map[string]Mark{}
		}
		whole.Fields[path] = mark
	}
	return fields, whole
}

// Digest tells whether two sides have the same of a record: 9 bytes of SHA-256 in base64url (RFC 4648) over the fields as
// canonical JSON and the marks as they are written.
func Digest(fields, marks []byte) string {
	hash := sha256.New()
	fmt.Fprintf(hash, "%d ", len(fields))
	hash.Write(fields)
	hash.Write(marks)
	return base64.RawURLEncoding.EncodeToString(hash.Sum(nil)[:9])
}
