package postgres

import (
	"context"
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"homing/central/fleet"
)

const channel = "homing"

// live spreads events among the instances on one database (LISTEN and NOTIFY) and to the listeners of this one. A
// listener that is slow misses events rather than holding anybody up: the next event tells it to look anyway.
type live struct {
	log    *slog.Logger
	cancel context.CancelFunc
	done   chan struct{}
	heard  func(fleet.Event) // is told of each event before the listeners

	mu        sync.Mutex
	listeners map[chan fleet.Event]struct{} // guarded by mu
}

func listen(database string, log *slog.Logger, heard func(fleet.Event)) *live {
	ctx, cancel := context.WithCancel(context.Background())
	l := &live{log: log, heard: heard, cancel: cancel, done: make(chan struct{}),
		listeners: map[chan fleet.Event]struct{}{}}
	go l.run(ctx, database)
	return l
}

func (l *live) stop() {
	l.cancel()
	<-l.done
}

func (l *live) run(ctx context.Context, database string) {
	defer close(l.done)
	for ctx.Err() == nil {
		if err := l.follow(ctx, database); err != nil && ctx.Err() == nil {
			l.log.Warn("live events interrupted; trying again", "error", err)
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
	}
}

func (l *live) follow(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	for {
		note, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var event fleet.Event
		if err := json.Unmarshal([]byte(note.Payload), &event); err != nil {
			l.log.Warn("live event not understood", "payload", note.Payload)
			continue
		}
		l.heard(event)
		l.spread(event)
	}
}

func (l *live) spread(event fleet.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for listener := range l.listeners {
		select {
		case listener <- event:
		default:
		}
	}
}

// Listen gives the events from now on, and a function that ends it. The channel is never closed.
func (d *DB) Listen() (<-chan fleet.Event, func()) {
	listener := make(chan fleet.Event, 64)
	d.live.mu.Lock()
	d.live.listeners[listener] = struct{}{}
	d.live.mu.Unlock()
	return listener, func() {
		d.live.mu.Lock()
		delete(d.live.listeners, listener)
		d.live.mu.Unlock()
	}
}

// Announce tells all instances. It comes after the commit and outside of the transaction, since NOTIFY within one makes
// commits wait for each other; a lost announcement costs a listener only time.
func (d *DB) Announce(ctx context.Context, event fleet.Event) {
	if event.Moved {
		d.live.heard(event) // this instance must not go on under the old one until the word comes round
	}
	text, err := json.Marshal(event)
	if err == nil {
		_, err = d.ExecContext(ctx, `SELECT pg_notify($1, $2)`, channel, string(text))
	}
	if err != nil {
		d.log.Warn("live event not announced", "error", err)
	}
}
