// Package demo is the demo scenario: the upkeep of a mountain trail network in the Varn Range, which does not exist.
// Its definitions are files, its records are drawn from a fixed seed, and its story is played with real devices
// against a real central.
package demo

import (
	"embed"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io/fs"
	"math"
	"math/rand/v2"
	"path"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/definition"
	"homing/core/period"
)

// Feeds are those of the demo, as files.
//
//go:embed feeds/*.yaml
var Feeds embed.FS

//go:embed definitions/*.yaml
var files embed.FS

// Definitions are those of the scenario's collections.
func Definitions() ([]definition.Definition, error) {
	names, err := fs.Glob(files, "definitions/*.yaml")
	if err != nil {
		return nil, err
	}
	all := make([]definition.Definition, len(names))
	for n, name := range names {
		text, err := files.ReadFile(name)
		if err != nil {
			return nil, err
		}
		if all[n], err = definition.ReadSource(path.Base(name), text); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Record is one record of the scenario.
type Record struct {
	Collection string
	ID         uuid.UUID
	Fields     map[string]any
}

// The ids of a few records that the story is about. All ids are the same in every run.
var (
	LongBridge  = fixedID(1)
	GaleShelter = fixedID(2)
	OldSignpost = fixedID(3)
	LongTrail   = fixedID(4)
)

// fixedID makes a UUIDv7 of a moment long ago and a number, so that demo ids are told from real ones at a glance.
func fixedID(n uint64) uuid.UUID {
	const millis = 1_735_689_600_000 // 2025-01-01
	var id uuid.UUID
	binary.BigEndian.PutUint64(id[:8], uint64(millis)<<16|0x7000)
	binary.BigEndian.PutUint64(id[8:], 1<<63|n)
	return id
}

// The range lies in the middle of an ocean, where no real mountain can be mistaken for it.
var districts = []struct {
	name, letters, crew string
	lat, lon            float64
}{
	{"kell", "KL", "kell crew", 52.31, -31.02},
	{"ostra", "OS", "ostra crew", 52.42, -31.31},
	{"tamrin", "TM", "tamrin crew", 52.24, -31.44},
	{"upper-varn", "UV", "upper crew", 52.53, -31.18},
}

var (
	places = []string{"Arn", "Bessel", "Corrin", "Dunmere", "Elvet", "Fosk", "Gale", "Hollin", "Issel", "Jarrow",
		"Kestrel", "Lorn", "Marl", "Nettle", "Orrin", "Pell", "Quern", "Rusk", "Sarn", "Tolle", "Ulver", "Vessen", "Wren",
		"Yarrow"}
	ways = []string{"Ridge Path", "Valley Trail", "Traverse", "Loop", "Pass Trail", "Lake Path", "Forest Way",
		"Gorge Path"}
	kinds = []string{"bridge", "shelter", "signpost", "signpost", "bridge", "ladder", "cable"}
	words = map[string]string{"bridge": "Bridge", "shelter": "Shelter", "signpost": "Signpost", "ladder": "Ladder",
		"cable": "Cable"}
	states   = []string{"sound", "sound", "sound", "worn", "worn", "damaged"}
	findings = []string{"sound", "sound", "watch", "watch", "repair soon", "close at once"}
	work     = map[string][]string{
		"bridge":   {"Replace deck boards", "Tighten hand rails", "Renew abutment stones", "Clear driftwood"},
		"shelter":  {"Mend the roof", "Replace the stove pipe", "Paint the shutters", "New bunk boards"},
		"signpost": {"Repaint the arms", "Reset the post", "Replace the north arm"},
		"ladder":   {"Replace two rungs", "Renew the anchors"},
		"cable":    {"Retension the cable", "Replace the clamps"},
	}
	parts = map[string][]string{"bridge": {"deck", "rail", "abutment"}, "shelter": {"roof", "post"},
		"signpost": {"post", "sign"}, "ladder": {"rail", "anchor"}, "cable": {"anchor", "rail"}}
	flaws = map[string][]string{
		"deck":   {"board cracked", "board soft underfoot", "nails standing out"},
		"rail":   {"loose at one end", "splintered", "bolt missing"},
		"anchor": {"rusted through", "turns in the rock"}, "roof": {"felt torn", "drips by the stove", "ridge board gone"},
		"post": {"leans to the valley", "rotten at the ground"}, "sign": {"arm broken off", "cannot be read"},
		"abutment": {"washed out", "stones shifted"},
	}
	materials = []string{"larch boards", "coach bolts", "steel cable", "gravel", "paint", "roof felt", "post shoe",
		"clamps"}
	people = []string{"mira", "tobin", "ansel", "runa"}
)

// Records draws the scenario's records: trails, structures on them, inspections of these with what was found,
// repairs, warnings and old surveys; parents before their children. The same in every run.
func Records() []Record {
	g := &generator{random: rand.New(rand.NewPCG(7, 2026)), next: 100}
	for n := range 60 {
		g.trail(n)
	}
	for n, d := range districts {
		g.add("warnings", uuid.Nil, map[string]any{"kind": []string{"rockfall", "flood", "storm", "closure"}[n],
			"district": d.name,
			"text": []string{"Stones come down below the Arn Gorge after rain.", "The ford at Fosk is under water.",
				"Storm from the west; stay off the exposed ways.", "The Pell Traverse is shut for works."}[n],
			"until": "2027-03-31"})
	}
	g.huts()
	// Collection by collection, parents first.
	order := map[string]int{"trails": 0, "structures": 1, "inspections": 2, "findings": 3, "repairs": 4, "warnings": 5,
		"surveys": 6, "huts": 7}
	slices.SortStableFunc(g.records, func(a, b Record) int { return order[a.Collection] - order[b.Collection] })
	return g.records
}

type generator struct {
	random  *rand.Rand
	next    uint64
	records []Record
}

func (g *generator) pick(from []string) string { return from[g.random.IntN(len(from))] }

func (g *generator) add(collection string, id uuid.UUID, fields map[string]any) uuid.UUID {
	if id == uuid.Nil {
		g.next++
		id = fixedID(g.next)
	}
	g.records = append(g.records, Record{collection, id, fields})
	return id
}

func round(x float64, digits int) float64 {
	scale := math.Pow10(digits)
	return math.Round(x*scale) / scale
}

func (g *generator) trail(n int) {
	d := districts[n%len(districts)]
	id, name := uuid.Nil, g.pick(places)+" "+g.pick(ways)
	if n == 0 {
		id, name = LongTrail, "Long Valley Trail"
	}
	course := [][]float64{{round(d.lon+g.random.Float64()*0.2, 5), round(d.lat+g.random.Float64()*0.1, 5)}}
	for range 4 + g.random.IntN(5) {
		last := course[len(course)-1]
		course = append(course, []float64{round(last[0]+g.random.Float64()*0.02-0.006, 5),
			round(last[1]+g.random.Float64()*0.016-0.005, 5)})
	}
	state := "open"
	if g.random.IntN(9) == 0 {
		state = "restricted"
	}
	trail := g.add("trails", id, map[string]any{"number": fmt.Sprintf("%s-%02d", d.letters, n/len(districts)+1),
		"name": name, "district": d.name,
		"state": state, "length_km": round(2+g.random.Float64()*16, 1),
		"grade":  g.pick([]string{"easy", "moderate", "moderate", "hard", "exposed"}),
		"course": map[string]any{"type": "LineString", "coordinates": course}})
	for _, year := range []int{1987, 2004} {
		g.add("surveys", uuid.Nil, map[string]any{"year": year, "place": name, "trail": trail,
			"report": fmt.Sprintf("%s, walked end to end in %d: %s, %s.", name, year,
				g.pick([]string{"well marked", "overgrown in its lower part", "narrow above the tree line"}),
				g.pick([]string{"two fords", "no water", "a spring at half way"}))})
	}
	for k := range 4 + g.random.IntN(4) {
		at := course[(k+1)%len(course)]
		g.structure(n, k, trail, d.crew, at)
	}
}

func (g *generator) structure(n, k int, trail uuid.UUID, crew string, at []float64) {
	id, kind := uuid.Nil, g.pick(kinds)
	name := fmt.Sprintf("%s %s", g.pick(places), words[kind])
	if n == 0 && k < 3 {
		id = []uuid.UUID{LongBridge, GaleShelter, OldSignpost}[k]
		kind = []string{"bridge", "shelter", "signpost"}[k]
		name = []string{"Long Bridge", "Gale Shelter", "Old Fork Signpost"}[k]
	}
	structure := g.add("structures", id, map[string]any{"name": name, "kind": kind, "trail": trail,
		"state": g.pick(states),
		"built": 1930 + g.random.IntN(94), "location": map[string]any{"type": "Point", "coordinates": at}})
	for range 1 + g.random.IntN(3) {
		day := time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, g.random.IntN(200))
		fields := map[string]any{"structure": structure, "date": day.Format(time.DateOnly), "finding": g.pick(findings),
			"inspector": g.pick(people)}
		if kind == "bridge" || kind == "shelter" {
			fields["rot_percent"] = g.random.IntN(35)
		}
		if kind == "bridge" || kind == "ladder" || kind == "cable" {
			fields["bolts_loose"] = g.random.IntN(6)
		}
		inspection := g.add("inspections", uuid.Nil, fields)
		if fields["finding"] != "sound" {
			for range 1 + g.random.IntN(2) {
				part := g.pick(parts[kind])
				g.add("findings", uuid.Nil, map[string]any{"inspection": inspection, "part": part, "what": g.pick(flaws[part]),
					"severity": 1 + g.random.IntN(5)})
			}
		}
	}
	if g.random.IntN(2) == 0 {
		hours := round(1+g.random.Float64()*20, 1)
		g.add("repairs", uuid.Nil, map[string]any{"structure": structure, "what": g.pick(work[kind]) + ", " + name,
			"crew":    crew,
			"status":  g.pick([]string{"wanted", "wanted", "planned", "under way", "done"}),
			"urgency": g.pick([]string{"low", "normal", "normal", "high"}),
			"due":     time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, g.random.IntN(240)).Format(time.DateOnly),
			"hours":   hours, "materials_cost": round(float64(g.random.IntN(400)), 0),
			"materials": []string{g.pick(materials[:4]), g.pick(materials[4:])}})
	}
}

// hutNames has three huts for each district.
var hutNames = []string{"Arn Hut", "Fosk Hut", "Lorn Hut", "Corrin Hut", "Gale Hut", "Quern Hut", "Bessel Hut", "Tolle Hut", "Marl Hut", "Wren Hut", "Hollin Hut", "Sarn Hut"}

func (g *generator) huts() {
	for n, name := range hutNames {
		d := districts[n%len(districts)]
		g.add("huts", uuid.Nil, map[string]any{"name": name, "crew": d.crew, "beds": 8 + 4*g.random.IntN(9), "location": map[string]any{"type": "Point",
			"coordinates": []float64{round(d.lon+g.random.Float64()*0.2, 5), round(d.lat+g.random.Float64()*0.1, 5)}}})
	}
}

// Weeks is how many weeks of rounds the demo has, with the one that is under way.
const Weeks = 8

// Round is what a crew noted at one hut in one week, and when.
type Round struct {
	By     string // who noted it
	Fields map[string]any
	At     time.Time
}

// Rounds draws what the crews noted of the huts in the weeks up to a day, the earliest first. Most are complete, some late, some missing.
func Rounds(today time.Time) []Round {
	random := rand.New(rand.NewPCG(11, 2026))
	var huts []Record
	for _, r := range Records() {
		if r.Collection == "huts" {
			huts = append(huts, r)
		}
	}
	var all []Round
	now := period.Of(period.Week, today)
	for back := Weeks - 1; back >= 0; back-- {
		week := now.Plus(-back)
		for n, hut := range huts {
			chance, late := random.IntN(100), random.IntN(100)
			at := week.First().AddDate(0, 0, 2+random.IntN(5)).Add(time.Duration(8+random.IntN(9)) * time.Hour)
			by := []string{"mira", "tobin", "runa", "runa"}[n%len(districts)]
			fields := map[string]any{"hut": hut.ID, "week": week.String(), "water": []string{"runs", "runs", "runs low", "dry"}[random.IntN(4)],
				"wood_m3": round(random.Float64()*9, 1), "nights": random.IntN(80)}
			if chance < 78 {
				fields["done_by"] = by
			}
			if late < 12 {
				at = at.AddDate(0, 0, 8)
			}
			if chance < 88 && at.Before(today) {
				all = append(all, Round{by, fields, at})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Round) int { return a.At.Compare(b.At) })
	return all
}

// JSON is the record's fields as a JSON object.
func (r Record) JSON() (json.RawMessage, error) { return json.Marshal(r.Fields) }
