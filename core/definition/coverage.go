package definition

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/expression"
	"homing/core/merge"
	"homing/core/period"
	"homing/core/record"
	"homing/core/rights"
)

// Coverage says that there is one record for each place and period, and which are expected.
type Coverage struct {
	Place    string   `json:"place" doc:"The field that names the place: a reference to another collection."`
	Period   string   `json:"period" doc:"The field that names the period."`
	Expected Expected `json:"expected,omitzero"`
	// Complete is a text: the name of whoever marked the record. When they did is what the field's mark says, in central's time.
	Complete string `json:"complete,omitempty" doc:"The field that holds who marked the record complete. What is required is checked then. Left out, a record is complete as soon as it is there."`
	Reopen   string `json:"reopen,omitempty" doc:"CEL expression over worker and record: who may open a complete record again. Left out, whoever marked it, leads and admins."`
}

// Expected says for which places and periods a record is expected.
type Expected struct {
	Where string `json:"where,omitempty" doc:"CEL expression over record (the place) and period (text, first, last; days as texts). Left out, every place is expected. One that cannot be worked out, since a value is missing, counts as false."`
	From  string `json:"from,omitempty" doc:"The first period that is expected."`
	Until string `json:"until,omitempty" doc:"The last period that is expected."`
	Due   string `json:"due,omitempty" doc:"A time such as 3 days after the end of the period; left out, its last day."`
}

// oneSpace is the space of the ids of records of which there is one for each place and period (RFC 9562, section 5.5).
var oneSpace = uuid.MustParse("6d1f3b52-94a7-4c0e-8a6b-2f0c4f0a5e17")

// OneFor are the fields that no two records of the collection share: a unique key, or place and period. None where
// records may be alike.
func (d Definition) OneFor() []string {
	switch {
	case d.Coverage != nil:
		return []string{d.Coverage.Place, d.Coverage.Period}
	case d.Unique:
		return []string{d.Key}
	}
	return nil
}

// OneText is the text that no other record may have; empty where the record lacks one of the fields that make it, or
// records may be alike.
func (d Definition) OneText(fields record.Fields) string {
	whole := ""
	for _, name := range d.OneFor() {
		text := Plain(fields[name])
		if len(fields[name]) == 0 || text == "" {
			return ""
		}
		if whole != "" {
			whole += OneBetween
		}
		whole += text
	}
	return whole
}

// OneBetween stands between the parts of a text that no two records share. Ids and periods have none.
const OneBetween = " "

// OneID is the id of the record for a place and a period, so that devices that add it without knowing of each other add the same
// one: a name-based UUID (RFC 9562, section 5.5) over the collection, the place and the period, with a space between them. It is
// not ok where fields lack one of them, or the collection has no such records.
func (d Definition) OneID(fields record.Fields) (id uuid.UUID, ok bool) {
	if d.Coverage == nil {
		return uuid.Nil, false
	}
	text := d.OneText(fields)
	return uuid.NewSHA1(oneSpace, []byte(d.Collection+OneBetween+text)), text != ""
}

// Completes says whether records of the collection are marked complete.
func (d Definition) Completes() bool { return d.Coverage != nil && d.Coverage.Complete != "" }

// CompletedBy is who marked a record complete; empty where nobody did.
func (d Definition) CompletedBy(fields record.Fields) string {
	if !d.Completes() || len(fields[d.Coverage.Complete]) == 0 {
		return ""
	}
	return Plain(fields[d.Coverage.Complete])
}

// Lax says whether what is required may still be missing: of a record that is not complete yet, all but place and period.
func (d Definition) lax(field string, fields record.Fields) bool {
	return d.Completes() && d.CompletedBy(fields) == "" && !slices.Contains(d.OneFor(), field)
}

// coverage are the compiled expressions of one.
type coverage struct{ where, reopen *expression.Program }

func (c Coverage) compile() (compiled coverage, err error) {
	if c.Expected.Where != "" {
		if compiled.where, err = expression.Compile(c.Expected.Where, "record", "period"); err != nil {
			return compiled, &ruleError{[]string{"coverage", "expected", "where"}, err}
		}
	}
	if c.Reopen != "" {
		if compiled.reopen, err = expression.Compile(c.Reopen, "worker", "record"); err != nil {
			return compiled, &ruleError{[]string{"coverage", "reopen"}, err}
		}
	}
	return compiled, nil
}

func (d Definition) checkCoverage() error {
	for _, field := range d.Fields {
		at := []string{"fields", field.Name, "period"}
		switch kind := period.Kind(field.Period); {
		case field.Period == "":
		case !kind.Valid():
			return &ruleError{at, fmt.Errorf("%q is no kind of period: take day, week, month, quarter or year", field.Period)}
		case field.Shape().Type != "string":
			return &ruleError{at, fmt.Errorf("a period is a text: take type string")}
		}
	}
	if d.Coverage == nil {
		return nil
	}
	c := *d.Coverage
	place, placed := d.Field(c.Place)
	when, dated := d.Field(c.Period)
	at := func(path ...string) []string { return append([]string{"coverage"}, path...) }
	switch {
	case !placed || place.Reference == "":
		return &ruleError{at("place"), fmt.Errorf("%q is no field with a reference: name the one that says which place a record is for", c.Place)}
	case !dated || when.Period == "":
		return &ruleError{at("period"), fmt.Errorf("%q is no field with a period, such as {type: string, period: week}", c.Period)}
	case !place.Required || !when.Required:
		return &ruleError{at(), fmt.Errorf("%s and %s say which record it is: name both under required", c.Place, c.Period)}
	case place.When != "" || when.When != "":
		return &ruleError{at(), fmt.Errorf("%s and %s say which record it is, and are asked for everywhere: leave when out", c.Place, c.Period)}
	case d.Unique:
		return &ruleError{[]string{"unique"}, fmt.Errorf("there is one record for each place and period: leave unique out")}
	case c.Reopen != "" && c.Complete == "":
		return &ruleError{at("reopen"), fmt.Errorf("nothing is marked complete: name the field under complete")}
	}
	if c.Complete != "" {
		if by, known := d.Field(c.Complete); !known || by.Shape().Type != "string" || by.Required || by.When != "" || by.Period != "" || by.Reference != "" ||
			by.Computed != "" || by.Filled != "" || by.Series != "" || by.Local {
			return &ruleError{at("complete"), fmt.Errorf("%q is to hold who marked the record complete: name a field of type string that nothing else is said of", c.Complete)}
		}
	}
	for name, text := range map[string]string{"from": c.Expected.From, "until": c.Expected.Until} {
		if _, err := period.Parse(period.Kind(when.Period), text); text != "" && err != nil {
			return &ruleError{at("expected", name), fmt.Errorf("%q %w", text, err)}
		}
	}
	if c.Expected.From != "" && c.Expected.Until != "" && c.Expected.Until < c.Expected.From {
		return &ruleError{at("expected", "until"), fmt.Errorf("%s comes before %s", c.Expected.Until, c.Expected.From)}
	}
	if span, err := ParseSpan(c.Expected.Due); c.Expected.Due != "" && (err != nil || span%(24*time.Hour) != 0) {
		return &ruleError{at("expected", "due"), fmt.Errorf("%q is no number of days: write it as 3 days or 1 week", c.Expected.Due)}
	}
	return nil
}

// inspectCoverage finds expressions that read what is not there.
func (d Definition) inspectCoverage(worker expression.Variable) error {
	if d.Coverage == nil || d.Coverage.Reopen == "" {
		return nil
	}
	variables := map[string]expression.Variable{"worker": worker, "record": {Members: d.members(false)}}
	if err := expression.Check(d.Coverage.Reopen, variables, expression.Choice, Nearest); err != nil {
		return &ruleError{[]string{"coverage", "reopen"}, err}
	}
	return nil
}

// checkExpected finds an expectation that asks of places what they do not have.
func checkExpected(c *Collection, all map[string]*Collection) error {
	if c.Coverage == nil || c.Coverage.Expected.Where == "" {
		return nil
	}
	place, _ := c.Field(c.Coverage.Place)
	text := expression.AlwaysText
	variables := map[string]expression.Variable{"record": {Members: all[place.Reference].members(true)},
		"period": {Members: expression.Members{"text": text, "first": text, "last": text}}}
	if err := expression.Check(c.Coverage.Expected.Where, variables, expression.Choice, Nearest); err != nil {
		return fmt.Errorf("what %s expects of %s: %w", c.Definition.Collection, place.Reference, err)
	}
	return nil
}

// PlaceCollection is the collection of the places; empty without coverage.
func (d Definition) PlaceCollection() string {
	if d.Coverage == nil {
		return ""
	}
	place, _ := d.Field(d.Coverage.Place)
	return place.Reference
}

// PeriodKind is how long the periods are; empty without coverage.
func (d Definition) PeriodKind() period.Kind {
	if d.Coverage == nil {
		return ""
	}
	field, _ := d.Field(d.Coverage.Period)
	return period.Kind(field.Period)
}

// Due is the last day on which the record for a period comes in time.
func (d Definition) Due(p period.Period) time.Time {
	if d.Coverage == nil || d.Coverage.Expected.Due == "" {
		return p.Last()
	}
	span, err := ParseSpan(d.Coverage.Expected.Due)
	if err != nil {
		return p.Last() // definitions are checked when they are compiled
	}
	return p.Last().Add(span)
}

// Expects says whether a record is expected for a place and a period. Fields are those of the place, with what is worked out.
func (c *Collection) Expects(place *Collection, fields record.Fields, p period.Period) bool {
	e := c.Coverage.Expected
	if e.From != "" && p.String() < e.From || e.Until != "" && p.String() > e.Until {
		return false
	}
	if c.guard.coverage.where == nil {
		return true
	}
	values, err := expression.Values(fields, place.guard.names)
	if err != nil {
		return false
	}
	holds, err := c.guard.coverage.where.Bool(map[string]any{"record": values, "period": map[string]any{"text": p.String(),
		"first": p.First().Format(time.DateOnly), "last": p.Last().Format(time.DateOnly)}})
	return err == nil && holds
}

// badPeriods are the values that are no periods.
func (c *Collection) badPeriods(fields record.Fields) (reasons []change.Reason) {
	for _, name := range c.periods {
		field, _ := c.Field(name)
		text, is := textIn(fields[name])
		if !is {
			continue // the schema says that it is no text
		}
		if _, err := period.Parse(period.Kind(field.Period), text); err != nil {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeInvalidValue, Message: fmt.Sprintf("%q %v", text, err)})
		}
	}
	return reasons
}

func textIn(value json.RawMessage) (text string, is bool) {
	return text, len(value) > 0 && json.Unmarshal(value, &text) == nil
}

// moved says that an edit would make another record of this one: which it is, place and period say, and they stay.
func (c *Collection) moved(before, after record.Fields) (reasons []change.Reason) {
	if c.Coverage == nil {
		return nil
	}
	for _, name := range c.OneFor() {
		if before[name] != nil && string(before[name]) != string(after[name]) {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeReadOnly,
				Message: "says which record this is, and stays; add one for the other place or period, and remove this one if it was meant for that"})
		}
	}
	return reasons
}

// MayMark says why somebody may not mark a record complete, or open it again, in the way an edit does; nil where it does neither.
// Nobody but an admin, who may bring in what was marked elsewhere, marks in the name of somebody else.
func (c *Collection) MayMark(who rights.Person, before, after record.Fields) error {
	was, is := c.CompletedBy(before), c.CompletedBy(after)
	switch {
	case was == is:
		return nil
	case is != "" && is != who.Name && who.Role != rights.Admin:
		return fmt.Errorf("%s cannot mark the record complete in the name of %s", who.Name, is)
	case is != "" || who.Role == rights.Admin:
		return nil
	case c.guard.coverage.reopen == nil && (who.Name == was || who.Role.Above(rights.Worker)):
		return nil
	case c.guard.coverage.reopen == nil:
		return fmt.Errorf("%s has marked the record complete; they, or a lead, may open it again", was)
	}
	values, err := expression.Values(before, c.guard.names)
	if err != nil {
		return err
	}
	yes, err := c.guard.coverage.reopen.Bool(map[string]any{"worker": workerSeen(who), "record": values})
	if err != nil {
		return fmt.Errorf("the rule for opening records of %s again could not decide: %w", c.Definition.Collection, err)
	}
	if !yes {
		return fmt.Errorf("%s may not open this record again: the rule is %s", who.Name, c.guard.coverage.reopen)
	}
	return nil
}

// Closed says that a record is complete, to who would edit or remove it and knows that; nil where it is not, or where the edit
// opens it again. An edit by somebody who did not know goes in: nothing is lost for being late.
func (c *Collection) Closed(kind change.Kind, before, after record.Fields, settles bool) []change.Reason {
	by := c.CompletedBy(before)
	if by == "" || settles || kind == change.Add || kind == change.Edit && (c.CompletedBy(after) != by) {
		return nil
	}
	return []change.Reason{{Code: change.CodeComplete, Message: fmt.Sprintf("%s has marked the record complete; open it again first", by)}}
}

// Settles says whether an edit sets a field that waits for a person.
func Settles(disputes map[string]merge.Dispute, delta record.Delta) bool {
	for name := range disputes {
		if _, sets := delta[name]; sets || name == merge.RecordRemoval {
			return true
		}
	}
	return false
}
