package promises_test

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"

	"homing/central"
	"homing/central/changes"
	"homing/central/finding"
	"homing/core/change"
	"homing/core/record"
	"homing/internal/testbed"
)

// counting lets a database be reached through it, and counts the statements that are run (PostgreSQL's frontend
// protocol, version 3: Execute and Query).
func counting(t *testing.T, database string, statements *atomic.Int64) string {
	t.Helper()
	at, err := url.Parse(database)
	testbed.Must(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	testbed.Must(t, err)
	t.Cleanup(func() { listener.Close() })
	behind := at.Host
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", behind)
			if err != nil {
				client.Close()
				return
			}
			go func() { defer client.Close(); _, _ = io.Copy(client, server) }()
			go func() { defer server.Close(); forward(client, server, statements) }()
		}
	}()
	at.Host = listener.Addr().String()
	return at.String()
}

func forward(from io.Reader, to io.Writer, statements *atomic.Int64) {
	in := bufio.NewReader(from)
	kind := byte(0) // the first message has none
	for {
		head := make([]byte, 4)
		if _, err := io.ReadFull(in, head); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint32(head)-4)
		if _, err := io.ReadFull(in, body); err != nil {
			return
		}
		message := append(head, body...)
		if kind != 0 {
			message = append([]byte{kind}, message...)
		}
		if kind == 'E' || kind == 'Q' {
			statements.Add(1)
		}
		if _, err := to.Write(message); err != nil {
			return
		}
		var err error
		if kind, err = in.ReadByte(); err != nil {
			return
		}
	}
}

// Lists ask the database as few questions for many records as for few: open conflicts with what each is called and who
// is in it, and the collections with their numbers.
func TestListsAreReadInBulk(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(testbed.Trails + "sync: {rules: {note: ask}}\n")
	var statements atomic.Int64
	through, err := central.Open(ctx, central.Options{Database: counting(t, bed.Database, &statements)})
	testbed.Must(t, err)
	defer through.Close()
	admin := central.Everything("admin")
	dispute := func() {
		id := newID()
		for n, note := range []string{"first", "second", "third"} {
			write := changes.Write{Collection: "trails", Record: id, Kind: change.Edit, Base: 1,
				Fields: record.Delta{"note": {To: []byte(`"` + note + `"`)}}}
			if n == 0 {
				write.Kind, write.Base = change.Add, -1
				write.Fields["name"] = record.Edit{To: []byte(`"Ridge"`)}
			}
			_, err := through.Direct(ctx, admin, write)
			testbed.Must(t, err)
		}
		_, err := through.Direct(ctx, admin, changes.Write{Collection: "trails", Record: id, Kind: change.Edit, Base: 1,
			Fields: record.Delta{"note": {To: []byte(`"fourth"`)}}})
		testbed.Must(t, err)
	}
	cost := func(what string, ask func() (int, error)) (found int, asked int64) {
		before := statements.Load()
		found, err := ask()
		testbed.Must(t, err)
		if asked = statements.Load() - before; asked == 0 {
			t.Fatalf("%s asks nothing: the proxy does not count", what)
		}
		return found, asked
	}
	asks := map[string]func() (int, error){
		"conflicts": func() (int, error) {
			all, err := through.Conflicts(ctx, admin, finding.Disputed{})
			return len(all), err
		},
		"overviews": func() (int, error) {
			all, err := through.Overviews(ctx, admin)
			return len(all), err
		},
	}
	dispute()
	few := map[string]int64{}
	for what, ask := range asks {
		_, few[what] = cost(what, ask)
	}
	for range 60 {
		dispute()
	}
	for what, ask := range asks {
		found, many := cost(what, ask)
		if many > few[what] {
			t.Errorf("%s asks %d questions for many records and %d for one", what, many, few[what])
		}
		if what == "conflicts" && found != 61 {
			t.Errorf("%d conflicts", found)
		}
		t.Logf("%s: %d questions", what, many)
	}
}
