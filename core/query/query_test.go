package query_test

import (
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/query"
)

func huts(t *testing.T) definition.Definition {
	t.Helper()
	d, err := definition.ReadSource("huts.yaml", []byte("collection: huts\nfields:\n  name: {type: string}\n  beds: "+
		"{type: integer}\n  height: {type: number}\n"))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestParse(t *testing.T) {
	q, err := query.Parse(huts(t), query.Ask{Where: []string{"name = Gale Hut", "beds>=12", "height!=1.5", "name~a=b",
		"name="}, Search: "two words", Sort: "-beds, name,revision", Offset: 20})
	if err != nil {
		t.Fatal(err)
	}
	want := []query.Condition{{Field: "name", Op: query.Equal, Value: "Gale Hut"},
		{Field: "beds", Op: query.GreaterOrEqual, Value: "12"}, {Field: "height", Op: query.NotEqual, Value: "1.5"},
		{Field: "name", Op: query.Contains, Value: "a=b"}, {Field: "name", Op: query.Equal}}
	for n, c := range want {
		if q.Where[n] != c {
			t.Errorf("condition %d is %+v, want %+v", n, q.Where[n], c)
		}
	}
	if q.Limit != query.DefaultLimit || q.Offset != 20 || len(q.Sort) != 3 ||
		q.Sort[0] != (query.Order{Field: "beds", Reverse: true}) {
		t.Errorf("%+v", q)
	}
}

func TestParseRefuses(t *testing.T) {
	for says, parse := range map[string]func(definition.Definition) (query.Query, error){
		"has no field": func(d definition.Definition) (query.Query, error) {
			return query.Parse(d, query.Ask{Where: []string{"colour=red"}})
		},
		"write FIELD=VALUE": func(d definition.Definition) (query.Query, error) {
			return query.Parse(d, query.Ask{Where: []string{"name"}})
		},
		`condition "=x"`: func(d definition.Definition) (query.Query, error) {
			return query.Parse(d, query.Ask{Where: []string{"=x"}})
		},
		`condition "name!x"`: func(d definition.Definition) (query.Query, error) {
			return query.Parse(d, query.Ask{Where: []string{"name!x"}})
		},
		"no such field": func(d definition.Definition) (query.Query,
			error) {
			return query.Parse(d, query.Ask{Sort: "colour"})
		},
		"take 1 to 1000": func(d definition.Definition) (query.Query,
			error) {
			return query.Parse(d, query.Ask{Limit: 1001})
		},
		"take 0 or more": func(d definition.Definition) (query.Query, error) { return query.Parse(d, query.Ask{Offset: -1}) },
	} {
		if _, err := parse(huts(t)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want %q", err, says)
		}
	}
}

// Values never become part of the statement, whatever they hold.
func FuzzSQLTakesValuesAsArguments(f *testing.F) {
	f.Add("name=x", "word")
	f.Add("beds>'; DROP TABLE records; --", `"quoted" 100%`)
	f.Fuzz(func(t *testing.T, condition, search string) {
		d := huts(t)
		q, err := query.Parse(d, query.Ask{Where: []string{condition}, Search: search, Sort: "-name", Limit: 10})
		if err != nil {
			return
		}
		for _, dialect := range []query.Dialect{query.PostgreSQL, query.SQLite} {
			where, args, order := q.SQL(d, dialect)
			if strings.Count(where, "?") != len(args) {
				t.Fatalf("%q, %q: %d arguments for %s", condition, search, len(args), where)
			}
			plain, err := query.Parse(d, query.Ask{Where: []string{q.Where[0].Field + string(q.Where[0].Op) + "v"},
				Search: strings.Repeat("w ", len(strings.Fields(search))), Sort: "-name", Limit: 10})
			if err != nil {
				t.Fatal(err)
			}
			// But for the kind of value, the text of the statement depends on the form of the query alone.
			other, _, otherOrder := plain.SQL(d, dialect)
			if order != otherOrder || len(where) > 2*len(other)+400 || strings.Contains(where, "DROP") {
				t.Fatalf("%q, %q: %s", condition, search, where)
			}
		}
	})
}
