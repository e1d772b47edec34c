package query_test

import (
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/query"
)

// A question has a bounded number of words and conditions: each is another look at every record.
func TestQuestionsHaveABound(t *testing.T) {
	d, err := definition.ReadSource("t.yaml", []byte("collection: trails\nfields: {name: {type: string}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	conditions := func(n int) (all []string) {
		for range n {
			all = append(all, "name=x")
		}
		return all
	}
	for name, one := range map[string]struct {
		ask  query.Ask
		fine bool
	}{
		"a few words":       {query.Ask{Search: "north ridge path"}, true},
		"many words":        {query.Ask{Search: strings.Repeat("a ", query.MaxWords+1)}, false},
		"one long word":     {query.Ask{Search: strings.Repeat("a", 5000)}, false},
		"some conditions":   {query.Ask{Where: conditions(20)}, true},
		"many conditions":   {query.Ask{Where: conditions(21)}, false},
		"much to sort by":   {query.Ask{Sort: strings.Repeat("name,", 1000)}, false},
		"little to sort by": {query.Ask{Sort: "-name"}, true},
	} {
		if _, err := query.Parse(d, one.ask); (err == nil) != one.fine {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A condition on a number compares with a number: anything else would find nothing, or everything, without a word.
func TestNumbersAreComparedWithNumbers(t *testing.T) {
	d, err := definition.ReadSource("t.yaml", []byte("collection: trails\nfields: {name: {type: string}, count: {type: number}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	for condition, fine := range map[string]bool{"count=5": true, "count>-1.5": true, "count=1e3": true, "count=": true, "count!=": true, "count~5": true,
		"name={}": true, "name>5": true, "count={}": false, "count!=null": false, "count>abc": false, "count=[]": false, "count<\"5\"": false,
		"count=1e999": false, "count=0x5": false, "count=--5": false, "count=5 6": false} {
		if _, err := query.Parse(d, query.Ask{Where: []string{condition}}); (err == nil) != fine {
			t.Errorf("%s: %v", condition, err)
		}
	}
}
