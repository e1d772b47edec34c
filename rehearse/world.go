package rehearse

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/fleet"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/rights"
	"homing/core/sight"
	"homing/device"
	"homing/link"
	"homing/wire"
)

// world is everything that there is in a rehearsal. The mutex guards it from the second goroutine of a pull.
type world struct {
	mu       sync.Mutex
	options  Options
	random   *rand.Rand
	folder   string
	now      time.Time // the true time
	ids      uint64
	side     side
	devices  []*unit
	late     []func()                     // batches that are still under way
	quiet    bool                         // nothing goes wrong any more
	copies   bool                         // some store is a copy of another, and both are used
	rounds   []definition.Definition      // of which there is one for each place and week; one or none
	spots    []uuid.UUID                  // the places of these
	echoes   []definition.Definition      // what central adds by itself, of which nobody else makes any; one or none
	counts   []definition.Definition      // what devices only send and do not keep; one or none
	invented bool                         // the definitions are made up, so that they can change in any way
	batch    int                          // the most changes that central takes at once
	names    map[string]map[string]string // what fields were called, and are called now, by collection; nothing when they are gone
	ruled    map[string]bool              // fields, behind their collections, for which the rule has changed
	zones    []string                     // territories that there are
	opened   []opened                     // records that somebody has open at central
	accepted int                          // changes, repetitions among them
	kept     int                          // of the ledger's saves, when central was backed up
	ledger   ledger
	report   Report
	records  []desk.Held     // in the end
	history  []desk.Accepted // in the end
}

// enrolled is a device as central knows it, with its workers.
type enrolled struct {
	name   string
	worker string
	id     uuid.UUID
	held   []string        // territories of the worker
	role   rights.Role     // of the worker
	guests []rights.Person // further workers, who have joined the device
	left   []rights.Person // of these, who have left it
	past   []uuid.UUID     // incarnations, as central knows them
	// errands are what a central in memory asks it to do.
	errands fleet.Errands
}

// unit is one machine with a local store. A copy of a store is another unit of the same device.
type unit struct {
	*enrolled
	w        *world
	n        int
	at       string    // who is signed in
	boots    int       // how often the machine was started anew
	booted   time.Time // when that was last, truly
	store    store
	path     string
	skew     time.Duration
	backup   string // a backup of the store, or empty
	saves    int    // of the ledger's, when the backup was made
	erased   int    // of the ledger's, when the store was erased
	screen   screen
	requests int // of this exchange
	killAt   int
	dead     bool
	after    bool
	mishap   mishap // what happens to its next request, in a situation
	on       string // which request that is
}

// people are the workers of the device.
func (d *unit) people() sight.Askers {
	return append(sight.Askers{{Name: d.worker, Role: d.role, Territories: d.held}}, d.guests...)
}

// device is what a central in memory knows of a device that has enrolled.
func (d *unit) device() central.Device {
	people := d.people()
	return central.Device{ID: d.id, Name: d.name, Worker: d.worker, Role: d.role, Territories: people.Territories(),
		People:      people,
		Incarnation: d.past[len(d.past)-1], Past: d.past, Errands: d.errands}
}

// boot names the run of the unit's machine.
func (d *unit) boot() string { return fmt.Sprint(d.name, d.n, " ", d.boots) }

func newWorld(options Options, folder string) (*world, error) {
	w := &world{options: options, folder: folder, random: rand.New(rand.NewPCG(options.Seed, 0x686f6d696e67)),
		now: time.Date(
			2026,
			11,
			23,
			6,
			0,
			0,
			0,
			time.UTC,
		), names: map[string]map[string]string{}, ruled: map[string]bool{}}
	w.report = Report{Seed: options.Seed, Answers: map[string]int{}, Refused: map[string]int{}}
	w.ledger = ledger{tokens: map[string]*save{}, had: map[string]bool{}, mended: map[touched]bool{}, lost: map[touched]bool{}, twice: map[touched]bool{}, offered: map[uuid.UUID]offer{},
		settled: map[touched]bool{}}
	w.options.Definitions = slices.Clone(w.options.Definitions) // they change
	if len(w.options.Definitions) == 0 {
		w.options.Definitions, w.invented = w.randomDefinitions(), true
		if options.Seed%echoing == 0 {
			w.letFollow()
		}
		if options.Seed%sharing == 1 || options.Bug == TwoForOne {
			w.share()
		}
		if options.Seed%counting == 2 {
			w.letCount()
		}
	}
	if w.options.Steps == 0 {
		w.options.Steps = 40 * max(1, len(w.options.Definitions)/2)
	}
	if w.options.Devices == 0 {
		w.options.Devices = 2 + w.random.IntN(3)
	}
	w.batch = []int{6, 25, wire.MaxBatchChanges}[w.random.IntN(3)]
	w.zones = zonesOf(w.options.Definitions)
	var err error
	if options.Database != "" {
		w.side, err = newOnPostgreSQL(w)
	} else {
		w.side, err = newInMemory(w)
	}
	if err != nil {
		return nil, err
	}
	return w, nil
}

// newID gives ids that follow from the seed alone.
func (w *world) newID() uuid.UUID {
	w.ids++
	var id uuid.UUID
	binary.BigEndian.PutUint64(id[:8], uint64(w.now.UnixMilli())<<16|0x7000|w.ids>>50)
	binary.BigEndian.PutUint64(id[8:], 1<<63|w.random.Uint64()>>2)
	return id
}

func (w *world) tell(format string, args ...any) {
	line := fmt.Sprintf("%s  %s", w.now.Format("15:04:05.000"), fmt.Sprintf(format, args...))
	w.report.Story = append(w.report.Story, line)
	if w.options.Watch != nil {
		fmt.Fprintln(w.options.Watch, line)
	}
}

func (w *world) fault(format string, args ...any) {
	w.report.Faults++
	w.tell(format, args...)
}

func (w *world) tail(n int) string {
	return strings.Join(w.report.Story[max(0, len(w.report.Story)-n):], "\n")
}

func (w *world) close() error {
	errs := []error{w.side.close()}
	for _, d := range w.devices {
		errs = append(errs, d.store.Close())
	}
	return errors.Join(errs...)
}

func (w *world) chance(percent int) bool { return w.random.IntN(100) < percent }

func (w *world) open(ctx context.Context, d *unit) (err error) {
	d.store, err = w.openStore(ctx, d)
	if err != nil {
		return err
	}
	return w.look(ctx, d)
}

func (w *world) clock() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.now
}

func (w *world) play(ctx context.Context) error {
	w.quiet = true
	for n := range w.options.Devices {
		d := &unit{w: w, n: n, path: filepath.Join(w.folder, fmt.Sprintf("%d.db", n)),
			enrolled: &enrolled{
				name:   fmt.Sprintf("device %c", 'A'+n),
				worker: fmt.Sprintf("worker-%c", 'a'+n),
				id:     w.newID(),
			}}
		d.held, d.role, d.booted = w.someZones(), rights.Worker, w.now.Add(-time.Hour)
		if !w.options.Calm && w.chance(60) {
			d.skew = time.Duration(w.random.IntN(8*3600)-4*3600) * time.Second
		}
		if err := w.open(ctx, d); err != nil {
			return err
		}
		w.devices = append(w.devices, d)
		code, err := w.side.join(d)
		if err != nil {
			return err
		}
		if err := d.store.Enrol(ctx, "https://central.invalid", code, d.name); err != nil {
			return err
		}
		w.tell("%s of %s, who holds %v; its clock is off by %s", d.name, d.worker, d.held, d.skew)
		if _, err := d.store.Exchange(ctx, nil); err != nil {
			return err
		}
	}
	w.quiet = false
	for range w.options.Steps {
		d := w.devices[w.random.IntN(len(w.devices))]
		if err := w.step(ctx, d); err != nil {
			return err
		}
		if err := w.hear(ctx, d); err != nil {
			return err
		}
		w.now = w.now.Add(time.Duration(1+w.random.IntN(60)) * time.Second)
	}
	return w.calmDown(ctx)
}

func (w *world) someZones() []string {
	if w.chance(25) || len(w.zones) == 0 {
		return []string{rights.All}
	}
	all := slices.Clone(w.zones)
	w.random.Shuffle(len(all), func(a, b int) { all[a], all[b] = all[b], all[a] })
	return slices.Sorted(slices.Values(all[:1+w.random.IntN(len(all))]))
}

// step is one thing that happens, to a device or at central.
func (w *world) step(ctx context.Context, d *unit) error {
	if _, err := w.who(ctx, d); err != nil {
		return err
	}
	if len(w.late) > 0 && w.chance(40) {
		w.tell("a late batch arrives")
		w.late[0]()
		w.late = w.late[1:]
	}
	roll := w.random.IntN(100)
	if w.options.Calm {
		roll = w.random.IntN(78)
	}
	switch {
	case roll < 8:
		return w.saveAtCentral()
	case roll < 54:
		return w.save(ctx, d)
	case roll < 78:
		return w.exchange(ctx, d)
	case roll < 82:
		if w.chance(25) {
			d.boots, d.booted = d.boots+1, w.now
			w.tell("the machine of %s is started anew", d.name)
		}
		d.skew += time.Duration(w.random.IntN(6*3600)-3*3600) * time.Second
		w.tell("the clock of %s is turned; it is off by %s now", d.name, d.skew)
	case roll < 86:
		return w.changePeople(ctx, d)
	case roll < 89:
		w.assign(d)
		return w.mend(ctx, d)
	case roll < 92:
		return w.backUp(ctx, d)
	case roll < 94:
		if w.chance(25) {
			return w.copy(ctx, d)
		}
		return w.restore(ctx, d)
	case roll < 97:
		w.tell("central is backed up")
		w.kept = len(w.ledger.saves)
		return w.side.backUp()
	case roll < 99:
		if w.chance(30) {
			return w.putCentralBack()
		}
		return w.restoreCentral()
	default:
		w.now = w.now.Add(time.Duration(w.random.IntN(48)) * time.Hour)
		w.tell("much time passes")
	}
	return nil
}

// exchange lets a device exchange, and perhaps kills it on the way.
func (w *world) exchange(ctx context.Context, d *unit) error {
	w.report.Exchanges++
	d.requests, d.killAt, d.dead = 0, 0, false
	if !w.quiet && !w.options.Calm && w.chance(15) {
		d.killAt = 1 + w.random.IntN(8)
	}
	summary, err := d.store.Exchange(ctx, nil)
	if errors.Is(err, device.ErrErased) {
		return w.startAnew(ctx, d)
	}
	if d.dead {
		w.report.Kills++
		d.dead = false
		if err := d.store.Kill(); err != nil {
			return err
		}
		return w.open(ctx, d)
	}
	var problem *link.Problem
	if err != nil && !errors.Is(err, link.ErrUnreachable) && !errors.As(err, &problem) {
		return err
	}
	if errors.As(err, &problem) {
		w.report.Wrong = append(w.report.Wrong, fmt.Sprintf("%s: central said %s", d.name, problem))
	}
	w.tell("%s exchanges: %d sent, %d applied, %d merged, %d held, %d refused, %d waiting, %d received, %d withdrawn%s",
		d.name, summary.Sent, summary.Applied, summary.Merged, summary.Held,
		summary.Refused, summary.Waiting, summary.Received, summary.Withdrawn,
		brokeOff(err))
	return nil
}

// note counts the answers that central gives.
func (w *world) note(answers wire.Answers) {
	for _, answer := range answers.Answers {
		if answer.Answer.Accepted() {
			w.accepted++
		}
		w.report.Answers[string(answer.Answer)]++
		if answer.Answer == change.Refused && !w.copies && answer.Reasons[0].Code == change.CodeNumberReused {
			w.wrong("P10: a store has used a number twice: %s", answer.Reasons[0].Message)
		}
		for _, reason := range answer.Reasons {
			if !answer.Answer.Accepted() {
				w.report.Refused[reason.Code]++
			}
		}
	}
}

func (w *world) backUp(ctx context.Context, d *unit) error {
	d.backup = filepath.Join(w.folder, fmt.Sprintf("%d-backup-%d.db", d.n, w.random.IntN(1<<30)))
	if err := d.store.Backup(ctx, d.backup); err != nil {
		return err
	}
	d.saves = len(w.ledger.saves)
	w.tell("%s is backed up", d.name)
	return nil
}

// restore loses a device, and goes on with its backup. What was saved after the backup and never came to central is
// lost with it.
func (w *world) restore(ctx context.Context, d *unit) error {
	if d.backup == "" {
		return nil
	}
	w.report.Restores++
	if err := d.store.Close(); err != nil {
		return err
	}
	for n := d.saves; n < len(w.ledger.saves); n++ {
		if w.ledger.saves[n].unit == d.n {
			w.ledger.saves[n].mayBeLost = true
		}
	}
	w.ledger.noteLost(d.n)
	d.path = filepath.Join(w.folder, fmt.Sprintf("%d-restored-%d.db", d.n, w.random.IntN(1<<30)))
	w.tell("%s is lost, and restored from its backup", d.name)
	if w.options.Bug == ClonedNumbers {
		text, err := os.ReadFile(d.backup)
		if err == nil {
			err = os.WriteFile(d.path, text, 0o600)
		}
		if err != nil {
			return err
		}
	} else if err := w.restoreStore(ctx, d, d.backup, d.path); err != nil {
		return err
	}
	d.backup = ""
	return w.open(ctx, d)
}

// restoreCentral loses central's database, and goes on with its backup. What was written at central itself since then
// is lost with it, unless some device has it.
func (w *world) restoreCentral() error {
	if err := w.eachAccepted(func(token string) { w.ledger.had[token] = true }); err != nil {
		return err
	}
	restored, err := w.side.restore()
	if err != nil || !restored {
		return err
	}
	w.tell("central is restored from its backup")
	return w.afterRestore()
}

// putCentralBack does the same with the database's own tools: nothing tells central that it is not where it left it.
func (w *world) putCentralBack() error {
	if err := w.eachAccepted(func(token string) { w.ledger.had[token] = true }); err != nil {
		return err
	}
	restored, err := w.side.putBack()
	if err != nil || !restored {
		return err
	}
	w.tell("central's database is put back to its backup by hand")
	return w.afterRestore()
}

func (w *world) afterRestore() error {
	w.report.Restores++
	// Of what central loses, it gets back what devices still have: not what was written at central itself, nor what came, perhaps
	// late, from a store that was erased since.
	for n, s := range w.ledger.saves {
		s.mayBeLost = s.mayBeLost || n >= w.kept && s.unit == atCentral || s.unit != atCentral && n < w.devices[s.unit].erased
	}
	w.opened = nil // whoever had something open looks at it again
	if w.chance(50) {
		if err := w.defineAgain(); err != nil {
			return err
		}
	}
	// Whoever runs central puts right who is who: what its backup says of people is old, too.
	for _, d := range w.devices {
		if err := errors.Join(w.side.hold(d), w.side.promote(d)); err != nil {
			return err
		}
		for _, guest := range d.left {
			if err := w.side.dismiss(d, guest.Name); err != nil {
				return err
			}
		}
		for _, guest := range d.guests {
			if err := w.side.invite(d, guest); err != nil {
				return err
			}
		}
	}
	return nil
}

func brokeOff(err error) string {
	if err == nil {
		return ""
	}
	return fmt.Sprintf("; it broke off: %v", err)
}

// calmDown lets everybody exchange until nothing moves any more.
func (w *world) calmDown(ctx context.Context) error {
	began := w.now
	w.tell("the work is over; from here on nothing goes wrong, and everybody exchanges")
	w.quiet = true
	for _, batch := range w.late {
		batch()
	}
	w.late = nil
	if err := w.defineAgain(); err != nil {
		return err
	}
	const rounds = 15
	for round := range rounds {
		moved := false
		for _, d := range w.devices {
			// What people do about it comes in this order: others may have sent what one would offer or give up.
			var err error
			told := len(w.report.Story)
			switch {
			case round > 5:
				err = errors.Join(w.everybody(ctx, d, func() error { return w.giveUp(ctx, d) }), w.offer(ctx, d, round))
			case round > 4:
				err = errors.Join(w.everybody(ctx, d, func() error { return nil }), w.offer(ctx, d, round))
			case round == 1:
				err = w.rejoin(ctx, d)
			case round > 1 && round < 4:
				err = w.everybody(ctx, d, func() error { return w.mend(ctx, d) })
			}
			if err != nil {
				return err
			}
			moved = moved || round > 4 && len(w.report.Story) > told
			before, held := w.accepted, w.fingerprints(ctx, d)
			if err := errors.Join(w.exchange(ctx, d), w.hear(ctx, d)); err != nil {
				return err
			}
			moved = moved || w.accepted != before || w.fingerprints(ctx, d) != held
		}
		if !moved && round > 6 {
			w.report.Settling = w.now.Sub(began)
			return nil
		}
	}
	w.report.Wrong = append(w.report.Wrong, fmt.Sprintf("after %d rounds of exchanges something still moves", rounds))
	return nil
}

// fingerprints tells whether anything on a device has changed.
func (w *world) fingerprints(ctx context.Context, d *unit) (all string) {
	for _, def := range w.definitions() {
		set, err := d.store.Fingerprint(ctx, def.Collection)
		if err == nil {
			all += set.Fingerprint
		}
	}
	return all
}

func (w *world) definitionOf(name string) definition.Definition {
	all := w.definitions()
	return all[slices.IndexFunc(all, func(d definition.Definition) bool { return d.Collection == name })]
}
