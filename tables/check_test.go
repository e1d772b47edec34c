package tables

import (
	"encoding/json"
	"testing"
)

// The texts are what PostgreSQL 15 writes back for checks in use.
func TestParseCheck(t *testing.T) {
	for check, want := range map[string]string{
		`CHECK ((beds >= 0))`:                                             `{"beds":{"minimum":0}}`,
		`CHECK (((beds >= 0) AND (beds <= 100)))`:                         `{"beds":{"maximum":100,"minimum":0}}`,
		`CHECK (((share > (0)::numeric) AND (share < 1.5)))`:              `{"share":{"exclusiveMaximum":1.5,"exclusiveMinimum":0}}`,
		`CHECK ((height >= '-10'::integer))`:                              ``,
		`CHECK ((char_length(name) <= 80))`:                               `{"name":{"maxLength":80}}`,
		`CHECK ((length((name)::text) > 0))`:                              `{"name":{"minLength":1}}`,
		`CHECK ((state = ANY (ARRAY['open'::text, 'it''s shut'::text])))`: `{"state":{"enum":["open","it's shut"]}}`,
		`CHECK (((state)::text = ANY ((ARRAY['open'::character varying, 'shut'::character varying])::text[])))`: `{"state":{"enum":["open","shut"]}}`,
		`CHECK ((number ~ '^[A-Z]{2}-[0-9]+$'::text))`:                                                          `{"number":{"pattern":"^[A-Z]{2}-[0-9]+$"}}`,
		`CHECK ((opened < closed))`:        ``,
		`CHECK (((a > 1) OR (b > 2)))`:     ``,
		`CHECK ((name <> ' AND ('::text))`: ``,
	} {
		bounds, understood := parseCheck(check)
		got := ""
		if understood {
			text, err := json.Marshal(bounds)
			if err != nil {
				t.Fatal(err)
			}
			got = string(text)
		}
		if got != want {
			t.Errorf("%s\n   becomes %s\n   want    %s", check, got, want)
		}
	}
}

func FuzzParseCheck(f *testing.F) {
	f.Add(`CHECK (((beds >= 0) AND (beds <= 100)))`)
	f.Add(`CHECK ((state = ANY (ARRAY['open'::text, 'it''s shut'::text])))`)
	f.Fuzz(func(t *testing.T, check string) {
		if bounds, understood := parseCheck(check); understood {
			if _, err := json.Marshal(bounds); err != nil {
				t.Errorf("%q becomes what JSON cannot hold: %v", check, err)
			}
		}
	})
}
