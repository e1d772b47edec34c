package trial

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/central"
	"homing/central/feeds"
	"homing/core/query"
	"homing/demo"
	"homing/feed"
	"homing/internal/cli/office"
	"homing/service"
)

// fed shows what goes on to other systems: a file for the office, and a second database for reports.
func (s *story) fed(ctx context.Context) error {
	warehouse, err := s.warehouse(ctx)
	if err != nil {
		return err
	}
	if err := s.service.Central.SetSecret(ctx, service.FirstAdminName, "warehouse", warehouse); err != nil {
		return err
	}
	files, err := fs.Glob(demo.Feeds, "feeds/*.yaml")
	if err != nil {
		return err
	}
	var all []feed.Feed
	for _, file := range files {
		text, err := fs.ReadFile(demo.Feeds, file)
		if err != nil {
			return err
		}
		f, err := feed.Read(file, text)
		if err != nil {
			return err
		}
		all = append(all, f)
	}
	if err := s.service.Central.DefineFeeds(ctx, service.FirstAdminName, all); err != nil {
		return err
	}
	for _, f := range all { // one that waits since another port was tried goes on at once
		if err := s.service.Central.PauseFeed(ctx, f.Name, false); err != nil {
			return err
		}
	}
	s.say("\n5. What central has goes on: open repairs as a table for the office, everything into a second database (homing feeds).\n")
	status, err := s.arrived(ctx)
	if err != nil {
		return err
	}
	if err := office.PrintFeeds(s.out, status); err != nil {
		return err
	}
	return s.countFed(ctx, warehouse)
}

// warehouse makes the second database beside central's, where it is not there yet, and gives its address.
func (s *story) warehouse(ctx context.Context) (string, error) {
	address, err := url.Parse(s.service.DatabaseURL())
	if err != nil {
		return "", err
	}
	db, err := sqlx.Open("pgx", address.String())
	if err != nil {
		return "", err
	}
	defer db.Close()
	var there bool
	if err := db.GetContext(ctx, &there, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = 'warehouse')`); err != nil {
		return "", err
	}
	if !there {
		if _, err := db.ExecContext(ctx, `CREATE DATABASE warehouse`); err != nil {
			return "", err
		}
	}
	address.Path = "/warehouse"
	return address.String(), nil
}

// arrived waits until the feeds have brought all that there is.
func (s *story) arrived(ctx context.Context) ([]feeds.Status, error) {
	for limit := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		all, err := s.service.Central.FeedList(ctx, "")
		if err != nil {
			return nil, err
		}
		current, wrong := 0, error(nil)
		for _, one := range all {
			if one.Error != "" {
				wrong = fmt.Errorf("the feed %s: %s", one.Name, one.Error)
			}
			if one.State == feeds.StateCurrent {
				current++
			}
		}
		if current == len(all) {
			return all, nil
		}
		if time.Now().After(limit) {
			return nil, errors.Join(errors.New("the feeds do not come to bring all that there is"), wrong)
		}
	}
}

// countFed counts from outside, and shows a line of the latest file.
func (s *story) countFed(ctx context.Context, warehouse string) error {
	db, err := sqlx.Open("pgx", warehouse)
	if err != nil {
		return err
	}
	defer db.Close()
	files, err := filepath.Glob(filepath.Join(s.folder, "feeds", "office", "*.csv"))
	if err != nil || len(files) == 0 {
		return errors.Join(err, errors.New("the office has no file"))
	}
	text, err := os.ReadFile(files[len(files)-1])
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	s.say("\n   %s ends with\n      %s", files[len(files)-1], lines[len(lines)-1])
	for _, collection := range []string{"structures", "repairs"} {
		var rows int
		if err := db.GetContext(ctx, &rows, fmt.Sprintf(`SELECT count(*) FROM %q`, collection)); err != nil {
			return err
		}
		listing, err := s.service.Central.List(ctx, central.Everything(service.FirstAdminName), collection, query.Ask{Limit: 1})
		if err != nil {
			return err
		}
		if int64(rows) != listing.Total {
			return fmt.Errorf("the second database has %d of %s, and central %d", rows, collection, listing.Total)
		}
		s.say("   The second database holds %d %s, as central does.", rows, collection)
	}
	return nil
}
