package main

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/device"
	"homing/service"
)

// clients measures the device in TypeScript, in Node, beside the one in Go: both as programs that are driven line by line,
// so that the way there costs both the same.
func (s *stand) clients(ctx context.Context, saves int) ([]measure, error) {
	central, err := driver.ToCentral(s.running.URL())
	if err != nil {
		return nil, err
	}
	began := time.Now()
	options := device.Options{Now: time.Now, Tick: func() (string, time.Duration) { return "bench", time.Since(began) },
		NewID: func() uuid.UUID { return uuid.Must(uuid.NewV7()) }, Transport: central}
	type took struct{ load, save, search float64 } // per second
	all := map[string]took{}
	for name, command := range map[string][]string{"node": {"node", "clients/typescript/dist/driver.js"}, "go": {"bin/homing", "drive"}} {
		store, err := driver.Open(ctx, driver.Command{Args: command, Patience: 10 * time.Minute}, filepath.Join(s.folder, name+".db"), options)
		if err != nil {
			return nil, fmt.Errorf("%w (make build client builds what is driven)", err)
		}
		got, err := driveOne(ctx, s, store, saves)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all[name] = took(got)
	}
	of := func(name string, a, b float64) measure {
		return measure{"TypeScript " + name, a, b, a / b, "none set; bare is Go's"}
	}
	node, ours := all["node"], all["go"]
	return []measure{of("load", node.load, ours.load), of("save", node.save, ours.save), of("search", node.search, ours.search)}, nil
}

func driveOne(ctx context.Context, s *stand, store *driver.Store, saves int) (took struct{ load, save, search float64 }, err error) {
	defer store.Close()
	code, err := s.code(service.FirstAdminName)
	if err != nil {
		return took, err
	}
	if err := store.Enrol(ctx, "https://central.invalid", code, "driven"); err != nil {
		return took, err
	}
	began := time.Now()
	sum, err := store.Exchange(ctx, nil)
	if err != nil {
		return took, err
	}
	took.load = float64(sum.Received) / time.Since(began).Seconds()
	began = time.Now()
	for n := range saves {
		fields := device.Fields{}
		for name, value := range fieldsOf(n) {
			fields[name] = value
		}
		if _, err := store.Add(ctx, "trails", fields); err != nil {
			return took, err
		}
	}
	took.save = float64(saves) / time.Since(began).Seconds()
	const searches = 10
	began = time.Now()
	for n := range searches {
		if _, err := store.Find(ctx, "trails", driver.Find{Search: fmt.Sprint("path ", 700+n), Sort: "name", Limit: 50}); err != nil {
			return took, err
		}
	}
	took.search = searches / time.Since(began).Seconds()
	return took, nil
}
