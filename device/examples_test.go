package device_test

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"

	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

// exampleCentral is a central for the examples, with the collections trails and structures, and a new folder for a
// store.
func exampleCentral() (url string, code func() string, folder string, stop func()) {
	central, err := testbed.Example()
	if err != nil {
		log.Fatal(err)
	}
	folder, err = os.MkdirTemp("", "homing-example-")
	if err != nil {
		log.Fatal(err)
	}
	return central.URL(), func() string {
			code, err := central.Code("worker")
			if err != nil {
				log.Fatal(err)
			}
			return code
		}, folder, func() {
			central.Stop()
			os.RemoveAll(folder)
		}
}

func must(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// A first app: it makes a store, enrols it, loads it, saves a record and brings it home.
func Example() {
	central, code, folder, stop := exampleCentral()
	defer stop()
	ctx := context.Background()

	store, err := device.Open(ctx, filepath.Join(folder, "crew.db"), device.Options{})
	must(err)
	defer store.Close()
	must(store.Enrol(ctx, central, code(), "Valley tablet"))
	_, err = store.Exchange(ctx, nil)
	must(err)
	bridge, err := store.Add(ctx, "structures", device.Fields{"name": "Long Bridge", "kind": "bridge"})
	must(err)
	summary, err := store.Exchange(ctx, nil)
	must(err)

	fmt.Println(bridge.Label, "is at central:", summary.Applied, "applied")
	// Output: Long Bridge is at central: 1 applied
}

// Find filters, searches, sorts and pages, with signal or without.
func ExampleStore_Find() {
	store, stop := exampleStore()
	defer stop()
	ctx := context.Background()
	for n, name := range []string{"Ridge Path", "Valley Trail", "Ridge Loop"} {
		_, err := store.Add(ctx, "trails", device.Fields{"name": name, "length_km": 3 * n, "state": "open"})
		must(err)
	}

	found, err := store.Find(ctx, "trails", query.Ask{Where: []string{"state=open", "length_km<5"}, Search: "ridge",
		Sort: "-length_km", Limit: 10})
	must(err)
	for _, r := range found.Records {
		fmt.Println(r.Label)
	}
	// Output: Ridge Path
}

// Review shows what will be sent, from what to what.
func ExampleStore_Review() {
	store, stop := exampleStore()
	defer stop()
	ctx := context.Background()
	trail, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge Path", "state": "open"})
	must(err)
	_, err = store.Edit(ctx, "trails", trail.ID, device.Fields{"state": "closed"})
	must(err)

	queue, err := store.Review(ctx)
	must(err)
	for _, change := range queue {
		for _, name := range change.Fields.Names() {
			fmt.Printf("%s %s: %s %s -> %s\n", change.Kind, change.Label, name, change.Fields[name].From, change.Fields[name].To)
		}
	}
	// Output:
	// add Ridge Path: name  -> "Ridge Path"
	// add Ridge Path: state  -> "open"
	// edit Ridge Path: state "open" -> "closed"
}

// Remove takes a record off this device at once, and from everywhere with the next exchange.
func ExampleStore_Remove() {
	store, stop := exampleStore()
	defer stop()
	ctx := context.Background()
	trail, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge Path"})
	must(err)
	must(store.Remove(ctx, "trails", trail.ID))

	found, err := store.Find(ctx, "trails", query.Ask{})
	must(err)
	fmt.Println(found.Total, "trails left")
	// Output: 0 trails left
}

// Children lists the records that belong to one.
func ExampleStore_Children() {
	store, stop := exampleStore()
	defer stop()
	ctx := context.Background()
	trail, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge Path"})
	must(err)
	_, err = store.Add(ctx, "marks", device.Fields{"trail": trail.ID, "text": "red dot"})
	must(err)

	marks, err := store.Children(ctx, trail, "marks", "", 0, 0)
	must(err)
	fmt.Println(trail.Label, "has", marks.Total, "mark:", marks.Records[0].Label)
	// Output: Ridge Path has 1 mark: red dot
}

// Listen tells of every change once, whether it was saved here or came from central.
func ExampleStore_Listen() {
	store, stop := exampleStore()
	defer stop()
	ctx := context.Background()
	changes, end := store.Listen()
	_, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge Path"})
	must(err)
	end()

	for change := range changes {
		fmt.Println(change.Collection, "changed; from central:", change.Central)
	}
	// Output: trails changed; from central: false
}

// exampleStore is a store that is enrolled and loaded.
func exampleStore() (*device.Store, func()) {
	central, code, folder, stop := exampleCentral()
	ctx := context.Background()
	store, err := device.Open(ctx, filepath.Join(folder, "crew.db"), device.Options{})
	must(err)
	must(store.Enrol(ctx, central, code(), "Valley tablet"))
	_, err = store.Exchange(ctx, nil)
	must(err)
	return store, func() {
		store.Close()
		stop()
	}
}
