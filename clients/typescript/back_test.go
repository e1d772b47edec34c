package typescript_test

import (
	"fmt"
	"strings"
	"testing"

	"homing/device"
	"homing/internal/testbed"
)

// What has not left is taken back, with what stands or falls with it, is written down first, and is never sent; what has
// left, or what others hang on, is not. The numbers of the store's identity have no gap: it goes on under another one.
func TestTakenBack(t *testing.T) {
	f := newField(t)
	f.bed.Define(trails, "collection: posts\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  trail: {type: string, format: uuid}\nparent: {collection: trails, field: trail, removal: remove}\n")
	f.device(f.browser, "own")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "phone"); await store.exchange();
		window.ridge = await store.add("trails", { name: "Ridge", walked: 3 }); await store.exchange();
		window.last = async () => (await store.review()).at(-1).number; window.walked = async () => (await store.get("trails", ridge.id)).fields.walked`, f.way, f.bed.Code("worker")))
	is := func(script, want string) {
		t.Helper()
		if got := f.run(f.browser, script); got != want {
			t.Errorf("%s: %s, not %s", script, got, want)
		}
	}
	// The last edit of two, and then the first.
	f.mustRun(f.browser, `await store.edit("trails", ridge.id, { walked: 4 }); window.first = await last(); await store.edit("trails", ridge.id, { walked: 9, name: "Saddle" })`)
	if got := f.run(f.browser, `await store.takeBack(first)`); !strings.Contains(got, "take that back first") {
		t.Errorf("an edit under another: %s", got)
	}
	is(`await store.takeBack(await last()); return await walked()`, "got 4")
	is(`await store.takeBack(await last()); return (await walked()) + " " + (await store.review()).length`, "got 3 0")
	// A record with its children goes as a whole, and not before them.
	f.mustRun(f.browser, `window.loop = await store.add("trails", { name: "Loop" }); window.made = await last(); await store.add("posts", { name: "Sign", trail: loop.id })`)
	if got := f.run(f.browser, `await store.takeBack(made)`); !strings.Contains(got, "has-children") {
		t.Errorf("a record with children: %s", got)
	}
	is(`await store.takeBack(await last()); await store.takeBack(made); return (await store.find("trails")).total`, "got 1")
	// A removal, with the children that went with it.
	f.mustRun(f.browser, `await store.add("posts", { name: "Post", trail: ridge.id }); await store.exchange(); await store.remove("trails", ridge.id)`)
	is(`await store.takeBack(await last()); return (await store.find("trails")).total + " " + (await store.find("posts")).total + " " + (await store.review()).length`, "got 1 1 0")
	if got := f.mustRun(f.browser, `return (await store.givenUp()).length`); got != "6" {
		t.Errorf("%s changes were written down", got)
	}
	// What has left stays, and what is saved from now on goes in.
	if got := f.run(f.browser, `await store.edit("trails", ridge.id, { walked: 5 }); window.gone = await last(); await store.exchange(); await store.takeBack(gone)`); !strings.Contains(got, "no-change") {
		t.Errorf("what central has: %s", got)
	}
	other := f.bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, other)
	found, err := other.Find(t.Context(), "trails", device.Ask{Limit: 10})
	testbed.Must(t, err)
	if len(found.Records) != 1 || found.Records[0].Label != "Ridge" || string(found.Records[0].Fields["walked"]) != "5" {
		t.Errorf("central has %v", found.Records)
	}
	var incarnations, numbers int
	testbed.Must(t, testbed.SQL(t, f.bed.Database).QueryRow(`SELECT count(DISTINCT incarnation), count(*) FROM answers`).Scan(&incarnations, &numbers))
	if incarnations < 3 {
		t.Errorf("%d changes went under %d identities; each time something was taken back there is a new one", numbers, incarnations)
	}
}

// Marks are counted up to the parents, the nearest comes first, and what wants attention changes with the day.
func TestWhatWantsToBeSeen(t *testing.T) {
	f := newField(t)
	f.bed.Define(trails,
		"collection: posts\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  trail: {type: string, format: uuid}\n  at: {$ref: \"urn:homing:point\"}\nparent: {collection: trails, field: trail, removal: remove}\n",
		"collection: jobs\nlabel: \"{what}\"\nfields:\n  what: {type: string}\n  due: {type: string, format: date}\n  post: {type: string, format: uuid}\n"+
			"parent: {collection: posts, field: post, removal: remove}\nattention:\n  - {when: record.due < today, say: overdue, grade: urgent}\n")
	f.device(f.browser, "own")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "phone"); await store.exchange();
		window.ridge = await store.add("trails", { name: "Ridge" }); window.loop = await store.add("trails", { name: "Loop" });
		const at = (lon, lat) => ({ type: "Point", coordinates: [lon, lat] });
		window.near = await store.add("posts", { name: "Near", trail: ridge.id, at: at(179.9, 10) });
		window.far = await store.add("posts", { name: "Far", trail: ridge.id, at: at(-179.9, 10) });
		await store.add("posts", { name: "Nowhere", trail: loop.id });
		await store.exchange();
		await store.add("jobs", { what: "Old", due: "2020-01-01", post: near.id }); await store.add("jobs", { what: "Later", due: "2999-01-01", post: far.id })`,
		f.way, f.bed.Code("worker")))
	for script, want := range map[string]string{
		`const c = await store.counts(); return [c.trails.records, c.jobs.unsent, c.jobs.new, c.jobs.urgent].join()`:                                  "2,2,2,1",
		`const b = await store.below("trails", [ridge.id, loop.id]); return JSON.stringify([b[ridge.id].unsent, b[ridge.id].urgent, b[loop.id]])`:     "[2,1,null]",
		`const b = await store.below("posts", [near.id, far.id]); return [b[near.id].urgent, b[far.id].urgent].join()`:                                "1,0",
		`return (await store.find("jobs", { marked: "urgent" })).records.map((r) => r.label + " " + r.attention.say).join()`:                          "Old overdue",
		`return (await store.find("posts", { near: { field: "at", lon: 179.95, lat: 10 } })).records.map((r) => r.label).join()`:                      "Near,Far,Nowhere",
		`return (await store.find("posts", { near: { field: "at", lon: -179.95, lat: 10 } })).records.map((r) => r.label).join()`:                     "Far,Near,Nowhere",
		`const p = await store.places("posts", "at"); return p.points.length + " " + p.lines.length + " " + p.more`:                                   "2 0 false",
		`return (await store.history("jobs", (await store.find("jobs", { search: "old" })).records[0].id)).map((h) => h.kind + " " + h.state).join()`: "add new",
	} {
		if got := f.mustRun(f.browser, script); got != want {
			t.Errorf("%s: %s, not %s", script, got, want)
		}
	}
	if got := f.run(f.browser, `await store.find("posts", { marked: "odd" })`); !strings.Contains(got, "is no mark") {
		t.Errorf("a mark that is none: %s", got)
	}
}

// Who erases a store gets what would be lost with it, and cannot give up what others have not sent.
func TestErased(t *testing.T) {
	f := newField(t)
	f.device(f.browser, "own")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "phone"); await store.exchange(); await store.setSecret("", "8642");
		await store.add("trails", { name: "Unsent" })`, f.way, f.bed.Code("worker")))
	if got := f.run(f.browser, `await store.erase()`); !strings.Contains(got, "DeviceError unsent: 1 changes") {
		t.Errorf("erased with what is unsent: %s", got)
	}
	f.mustRun(f.browser, fmt.Sprintf(`await store.join(%q, "9753")`, f.bed.Code("lead")))
	if got := f.run(f.browser, `await store.erase({ discard: true })`); !strings.Contains(got, "sealed here for others") {
		t.Errorf("what another has not sent is given up: %s", got)
	}
	f.mustRun(f.browser, `await store.signOut()`)
	if got := f.run(f.browser, `await store.erase({ discard: true })`); !strings.Contains(got, "signed-out") {
		t.Errorf("nobody erases: %s", got)
	}
	if got := f.mustRun(f.browser, `await store.signIn("worker", "8642"); window.last = await store.erase({ discard: true }); store.close();
		await homing.restore(last, "again"); window.store = await homing.open("again"); await store.signIn("worker", "8642"); return (await store.review()).length`); got != "1" {
		t.Errorf("of what would have been lost, the backup has %s", got)
	}
	f.mustRun(f.browser, `await store.exchange()`)
	if got := f.has("Unsent"); got != 1 {
		t.Errorf("central has it %d times", got)
	}
	// Where nothing would be lost, there is nothing to keep.
	if got := f.mustRun(f.browser, `return String(await store.erase())`); got != "undefined" {
		t.Errorf("it gives %s", got)
	}
}

// A page opens the store though the one before it is still going, and though the browser never runs the first worker.
func TestOpenedInTheEnd(t *testing.T) {
	f := newField(t)
	f.mustRun(f.browser, `window.homing = await import("/browser.js"); window.before = new Worker("/worker.js", { type: "module" });
		await new Promise((resolve) => {
			before.onmessage = ({ data }) => data.answer && resolve();
			before.postMessage({ ask: "1", from: "", method: "open", given: '["held"]' });
		});
		setTimeout(() => before.terminate(), 1500); window.store = await homing.open("held"); return (await store.status()).enrolled`)
	f.mustRun(f.browser, `window.late = await homing.open("late", { worker: "/late.js" }); await late.status()`)
}
