// Command hutbook is a small app on package homing/device: the book of a hut without signal. It shows what an app of your own
// is made of: a store, types from the definitions, and an exchange when there is signal.
//
//	hutbook enrol http://127.0.0.1:8400 ABCD-EFGH-IJKL-MNOP
//	hutbook exchange
//	hutbook visit H-01 "Rope team Arn" 3
//	hutbook book
//
// The types in the folder records were written by: homing generate go huts.yaml visits.yaml
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"

	"homing/core/query"
	"homing/device"
	"homing/examples/hutbook/records"
	"homing/link"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	path := os.Getenv("HUTBOOK")
	if path == "" {
		path = "hutbook.db"
	}
	store, err := device.Open(ctx, path, device.Options{})
	if err == nil {
		err = errors.Join(run(ctx, store, os.Args[1:], os.Stdout), store.Close())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "hutbook:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, store *device.Store, args []string, out io.Writer) error {
	switch {
	case len(args) == 3 && args[0] == "enrol":
		return store.Enrol(ctx, args[1], args[2], "hut book")
	case len(args) == 1 && args[0] == "exchange":
		return exchange(ctx, store, out)
	case len(args) == 4 && args[0] == "visit":
		people, err := strconv.ParseInt(args[3], 10, 64)
		if err != nil {
			return fmt.Errorf("%q is no number of people", args[3])
		}
		return visit(ctx, store, args[1], args[2], people)
	case len(args) == 1 && args[0] == "book":
		return book(ctx, store, out)
	}
	return errors.New("say enrol ADDRESS CODE, exchange, visit HUT PARTY PEOPLE, or book")
}

// exchange sends what is unsent and brings what others did. Without signal nothing is lost: it goes with the next.
func exchange(ctx context.Context, store *device.Store, out io.Writer) error {
	summary, err := store.Exchange(ctx, nil)
	if errors.Is(err, link.ErrUnreachable) {
		fmt.Fprintln(out, "No signal. Everything is kept, and goes with the next exchange.")
		return nil
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%d sent, %d received\n", summary.Sent, summary.Received)
	queue, err := store.Review(ctx)
	for _, one := range queue {
		if len(one.Reasons) > 0 {
			fmt.Fprintf(out, "central did not take %s: %s\n", one.Label, one.Reasons[0].Message)
		}
	}
	return err
}

// visit writes a visit into the book, and counts its people at the hut: both, or neither.
func visit(ctx context.Context, store *device.Store, number, party string, people int64) error {
	id, err := store.Resolve(ctx, records.HutsCollection, number)
	if err != nil {
		return err
	}
	found, err := store.Get(ctx, records.HutsCollection, id)
	if err != nil {
		return err
	}
	hut, err := records.ReadHuts(found.Fields)
	if err != nil {
		return err
	}
	guests := people
	if hut.Guests != nil {
		guests += *hut.Guests
	}
	return store.Group(ctx, func(g *device.Group) error {
		entry := records.VisitsChange{Hut: records.To(records.HutsID(id)), Party: records.To(party), People: records.To(people)}
		if _, err := g.Add(records.VisitsCollection, entry.Fields()); err != nil {
			return err
		}
		// Saw says what was read: should an exchange have brought news since, both are merged.
		_, err := g.Edit(records.HutsCollection, id, records.HutsChange{Guests: records.To(guests)}.Fields(), device.Saw(found))
		return err
	})
}

// book lists the huts with their visits, with signal or without.
func book(ctx context.Context, store *device.Store, out io.Writer) error {
	huts, err := store.Find(ctx, records.HutsCollection, query.Ask{Sort: "number", Limit: query.MaxLimit})
	if err != nil {
		return err
	}
	for _, one := range huts.Records {
		hut, err := records.ReadHuts(one.Fields)
		if err != nil {
			return err
		}
		mark := ""
		if hut.Full != nil && *hut.Full {
			mark = " (full)"
		}
		fmt.Fprintf(out, "%s %s%s\n", hut.Number, hut.Name, mark)
		visits, err := store.Find(ctx, records.VisitsCollection, query.Ask{Where: []string{"hut=" + one.ID.String()}, Sort: "party", Limit: query.MaxLimit})
		if err != nil {
			return err
		}
		for _, v := range visits.Records {
			entry, err := records.ReadVisits(v.Fields)
			if err != nil {
				return err
			}
			unsent := ""
			if v.Pending > 0 {
				unsent = ", unsent"
			}
			fmt.Fprintf(out, "   %s: %d%s\n", entry.Party, entry.People, unsent)
		}
	}
	return nil
}
