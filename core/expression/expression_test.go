package expression_test

import (
	"errors"
	"reflect"
	"strings"
	"testing"

	"homing/core/expression"
	"homing/core/record"
)

func values(t *testing.T, text string, names ...string) map[string]any {
	t.Helper()
	fields, err := record.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	v, err := expression.Values(fields, names)
	if err != nil {
		t.Fatal(err)
	}
	return map[string]any{"record": v}
}

func TestBool(t *testing.T) {
	for text, want := range map[string]bool{
		`record.state == "open"`:                              true,
		`record.length > 5`:                                   true,
		`record.length > 7.5`:                                 false,
		`record.missing == null`:                              true,
		`record.missing == "x"`:                               false,
		`"a" in record.tags && size(record.tags) == 2`:        true,
		`record.at.coordinates[0] < -30`:                      true,
		`record.tags.exists(t, t.startsWith("b"))`:            true,
		`record.state.matches("^o") && !(record.length == 6)`: true,
	} {
		p, err := expression.Compile(text, "record")
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		got, err := p.Bool(values(t, `{"state":"open","length":7,"tags":["a","b"],"at":{"coordinates":[-31.5,52]}}`,
			"missing"))
		if err != nil || got != want {
			t.Errorf("%s gives %v, %v", text, got, err)
		}
	}
}

func TestTexts(t *testing.T) {
	for text, want := range map[string][]string{
		`record.district`: {"kell"}, `[record.district, "all"]`: {"kell", "all"}, `record.missing`: nil,
		`record.length > 5 ? "far" : "near"`: {"far"},
	} {
		p, err := expression.Compile(text, "record")
		if err != nil {
			t.Fatal(err)
		}
		got, err := p.Texts(values(t, `{"district":"kell","length":7}`, "missing"))
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s gives %v, %v", text, got, err)
		}
	}
}

func TestWhatDoesNotCompile(t *testing.T) {
	for _, text := range []string{`record.state ==`, `colour == "red"`, `record.state = "x"`, `nosuch(record)`,
		strings.Repeat("x", 5000)} {
		if _, err := expression.Compile(text, "record"); err == nil {
			t.Errorf("%.40s compiles", text)
		}
	}
}

func TestWhatGoesWrong(t *testing.T) {
	vars := values(t, `{"n":1,"list":[1,2,3,4,5,6,7,8,9,10]}`)
	for text, says := range map[string]string{
		`record.nowhere == 1`: "no such key", `record.n + "x" == "y"`: "no such overload", `record.n`: "not true or false",
		// Ten by ten by ten by ten by ten by ten: broken off by its cost, at once.
		`record.list.all(a, record.list.all(b, record.list.all(c, record.list.all(d, record.list.all(e, record.list.all(f, a+b+c+d+e+f > 0))))))`: "runs too long",
	} {
		p, err := expression.Compile(text, "record")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := p.Bool(vars); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
	p, err := expression.Compile(`[record.n]`, "record")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Texts(vars); !errors.Is(err, expression.ErrResult) {
		t.Errorf("a list of numbers: %v", err)
	}
}

// What a device in a browser could not work out alike is refused when it is defined, with what to write instead.
func TestNotOnEveryDevice(t *testing.T) {
	variables := map[string]expression.Variable{"record": {Members: expression.Members{"name": expression.Text, "opened": expression.Text}}}
	for text, says := range map[string]string{
		`bytes("a") == bytes("b")`:                  "bytes is not the same on every device: texts do",
		`b"a" == b"a"`:                              "a text in bytes",
		`math.bitAnd(3, 1) == 1`:                    "math.bitAnd",
		`matches("a", "b")`:                         "text.matches(pattern)",
		`duration("1s").getMilliseconds() == 1000`:  "getMilliseconds of a duration",
		`duration("1h")`:                            "type duration",
		`timestamp("2026-01-01T00:00:00Z")`:         "type timestamp",
		`google.protobuf.Int32Value{value: 1} == 1`: "a message such as",
	} {
		err := expression.Check(text, variables, expression.Value, func(string, []string) string { return "" })
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", text, err, says)
		}
	}
	for _, text := range []string{`"a".matches("b")`, `math.greatest(1.0, 2.0)`, `timestamp("2026-01-01T00:00:00Z").getMilliseconds()`,
		`string(duration("1h"))`, `timestamp("2026-01-01T00:00:00Z") - duration("1h") < timestamp("2027-01-01T00:00:00Z")`} {
		if err := expression.Check(text, variables, expression.Value, func(string, []string) string { return "" }); err != nil {
			t.Errorf("%s: %v", text, err)
		}
	}
}
