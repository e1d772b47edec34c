package local

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/internal/cli/terminal"
)

// Bounds on a stream.
const (
	mostOfLine  = 1 << 20 // bytes
	mostAtOnce  = 1000    // records to a write
	wrongShown  = 20      // of what is wrong with lines, the first are told, and the rest counted
	streamRetry = 5 * time.Second
	// A disk is looked at so often while lines come. It is called low when it has less than this left, or less than the stream takes in an hour at the pace since it
	// began; that is told again as often as it says.
	roomEvery = 10 * time.Second
	roomLow   = 64 << 20 // bytes
	roomTold  = time.Hour
)

// lineIn is a line of a stream.
type lineIn struct {
	number int
	fields device.Fields
	wrong  error // what is wrong with the line itself
}

// streamed is what a stream came to.
type streamed struct {
	Saved   int `json:"saved"`
	Refused int `json:"refused"`
	Unsent  int `json:"unsent"`
}

// localStream adds a record for each line of standard input, as long as there are any, and sends them in between.
func localStream(ctx context.Context, c *cli.Command, store *device.Store, collection string) error {
	if _, err := store.Collection(ctx, collection); err != nil {
		return err
	}
	s := stream{store: store, collection: collection, within: c.Duration("within"), told: c.Root().ErrWriter}
	sending, stop := context.WithCancel(ctx)
	var sender sync.WaitGroup
	if every := c.Duration("exchange-every"); every > 0 {
		sender.Go(func() {
			if err := store.Repeat(sending, every, false, func(device.Summary, error) {}); err != nil && sending.Err() == nil {
				fmt.Fprintf(s.told, "homing: nothing is sent any more: %v\n", err)
			}
		})
	}
	err := s.read(ctx, c.Root().Reader)
	stop()
	sender.Wait()
	if c.Duration("exchange-every") > 0 && ctx.Err() == nil {
		_, _ = store.Exchange(ctx, nil) // without a link, what is left goes with the next exchange
	}
	if status, fails := store.Status(context.WithoutCancel(ctx)); fails == nil {
		s.sum.Unsent = int(status.Unsent)
	}
	if s.sum.Refused > 0 {
		err = errors.Join(err, terminal.Coded(fmt.Errorf("%s could not be taken", terminal.Count(s.sum.Refused, "line")), terminal.ExitRefused))
	}
	if c.Bool("json") {
		return errors.Join(err, terminal.WriteJSON(c.Root().Writer, s.sum))
	}
	fmt.Fprintf(c.Root().Writer, "%s saved, %s refused; %s unsent.\n", terminal.Count(s.sum.Saved, "record"), terminal.Count(s.sum.Refused, "line"), terminal.Count(s.sum.Unsent, "change"))
	return err
}

type stream struct {
	store      *device.Store
	collection string
	within     time.Duration
	told       io.Writer
	sum        streamed
	room       roomWatch
}

// read saves what comes until it ends, or until somebody ends it: what was read by then is saved.
func (s *stream) read(ctx context.Context, from io.Reader) error {
	lines, failed := make(chan lineIn, mostAtOnce), make(chan error, 1)
	go func() {
		failed <- readLines(ctx, from, lines)
		close(lines)
	}()
	for {
		batch, more := s.gather(ctx, lines)
		if err := s.save(ctx, batch); err != nil {
			return err
		}
		if !more {
			if ctx.Err() != nil {
				return nil
			}
			return <-failed
		}
	}
}

// gather takes a line and what else is there already, or comes within the time that a power cut may take.
func (s *stream) gather(ctx context.Context, lines <-chan lineIn) (batch []lineIn, more bool) {
	select {
	case <-ctx.Done():
		return nil, false
	case line, is := <-lines:
		if !is {
			return nil, false
		}
		batch = append(batch, line)
	}
	var late <-chan time.Time
	if s.within > 0 {
		late = time.After(s.within)
	}
	for len(batch) < mostAtOnce {
		select {
		case line, is := <-lines:
			if !is {
				return batch, false
			}
			batch = append(batch, line)
			continue
		default:
		}
		if late == nil {
			return batch, true
		}
		select {
		case <-ctx.Done():
			return batch, false
		case <-late:
			return batch, true
		case line, is := <-lines:
			if !is {
				return batch, false
			}
			batch = append(batch, line)
		}
	}
	return batch, true
}

// save brings a batch down to the disk, also after somebody has ended it. While the disk has no room, or another program keeps the store to itself, it
// waits, and so does whoever produces: nothing is let go of.
func (s *stream) save(ctx context.Context, batch []lineIn) error {
	var rows []device.Fields
	var numbers []int
	for _, line := range batch {
		if line.wrong != nil {
			s.refuse(line.number, line.wrong)
			continue
		}
		rows, numbers = append(rows, line.fields), append(numbers, line.number)
	}
	if len(rows) == 0 {
		return nil
	}
	for said := false; ; said = true {
		ids, wrong, err := s.store.AddMany(context.WithoutCancel(ctx), s.collection, rows)
		if errors.Is(err, device.ErrFull) || errors.Is(err, device.ErrLocked) {
			if !said {
				until := "room"
				if errors.Is(err, device.ErrLocked) {
					until = "it"
				}
				fmt.Fprintf(s.told, "homing: %v; waiting for %s, with nothing lost\n", err, until)
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("the lines from %d to %d are not saved: %w", numbers[0], numbers[len(numbers)-1], err)
			case <-time.After(streamRetry):
			}
			continue
		}
		if err != nil {
			return err
		}
		for n := range ids {
			if why := wrong[n]; why != nil {
				s.refuse(numbers[n], why)
			}
		}
		s.sum.Saved += len(ids) - len(wrong)
		if low := s.room.look(s.store.Room, time.Now()); low != "" {
			fmt.Fprintln(s.told, "homing: "+low)
		}
		return nil
	}
}

// roomWatch looks after the room on a disk that a stream writes to.
type roomWatch struct {
	first        int64 // bytes that there were in the beginning
	began        time.Time
	looked, told time.Time
}

// look gives a warning when the disk is low, and has not been called so within the hour.
func (r *roomWatch) look(room func() int64, now time.Time) string {
	if now.Sub(r.looked) < roomEvery {
		return ""
	}
	left := room()
	r.looked = now
	if r.began.IsZero() {
		r.first, r.began = left, now
	}
	if left < 0 || !r.told.IsZero() && now.Sub(r.told) < roomTold {
		return ""
	}
	lasts := ""
	if went := now.Sub(r.began); went >= time.Minute && r.first > left {
		until := time.Duration(float64(left) / float64(r.first-left) * float64(went))
		if left >= roomLow && until > roomTold {
			return ""
		}
		lasts = ", which at this pace lasts for " + until.Round(time.Minute).String()
	} else if left >= roomLow {
		return ""
	}
	r.told = now
	return fmt.Sprintf("the disk has %s left%s; make room, or let the device exchange: when it is full the stream waits", terminal.Size(int(left)), lasts)
}

func (s *stream) refuse(number int, why error) {
	if s.sum.Refused++; s.sum.Refused <= wrongShown {
		fmt.Fprintf(s.told, "homing: line %d: %v\n", number, why)
	}
	if s.sum.Refused == wrongShown {
		fmt.Fprintln(s.told, "homing: what else is wrong is only counted")
	}
}

// readLines reads a JSON object from each line. One that is too long is let go of as far as its end.
func readLines(ctx context.Context, from io.Reader, to chan<- lineIn) error {
	in := bufio.NewReaderSize(from, mostOfLine)
	for number := 1; ; number++ {
		text, err := in.ReadSlice('\n')
		line := lineIn{number: number}
		if errors.Is(err, bufio.ErrBufferFull) {
			line.wrong = fmt.Errorf("it has more than %d bytes", mostOfLine)
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
		} else if len(text) > 0 {
			var members map[string]json.RawMessage // numbers stay as they are written
			if wrong := json.Unmarshal(text, &members); wrong != nil || members == nil {
				line.wrong = errors.New("it is not a JSON object of fields on one line")
			}
			line.fields = device.Fields{}
			for name, value := range members {
				line.fields[name] = value
			}
		}
		if len(bytes.TrimSpace(text)) > 0 || line.wrong != nil && len(text) > 1 {
			select {
			case to <- line:
			case <-ctx.Done():
				return nil
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
