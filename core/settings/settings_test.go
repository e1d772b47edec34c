package settings_test

import (
	"strings"
	"testing"
	"time"

	"homing/core/settings"
)

func TestWhatIsTyped(t *testing.T) {
	for _, test := range []struct{ name, typed, value, wrong string }{
		{"exchange_every", "10 minutes", `"10 minutes"`, ""},
		{"exchange_every", "10 seconds", "", "exchange_every is a time from 1 minutes to 7 days, such as 10 minutes"},
		{"exchange_every", "2 weeks", "", "is a time from"},
		{"listen", "false", "false", ""}, {"listen", "no", "", "listen is true or false"},
		{"budget", "50000000", "50000000", ""}, {"budget", "-1", "", "is a whole number from 0"}, {"budget", "lots", "", "is a whole number"},
		{"page", "5", "", "is a whole number from 20 to 1000"}, {"least_version", "1.4", `"1.4"`, ""}, {"least_version", "new", "", "is a version"},
		{"note", "Exchange before Friday.", `"Exchange before Friday."`, ""}, {"note", " ", "", "is a text of 1 to 500"}, {"note", "1", `"1"`, ""},
		{"note", strings.Repeat("ä", 501), "", "is a text of"}, {"keep_log", "30 days", `"30 days"`, ""},
		{"exchange_evry", "1 hour", "", `there is no setting "exchange_evry"; probably exchange_every`},
	} {
		value, err := settings.Typed(test.name, test.typed)
		switch {
		case test.wrong == "" && (err != nil || string(value) != test.value):
			t.Errorf("%s %s: %s, %v", test.name, test.typed, value, err)
		case test.wrong != "" && (err == nil || !strings.Contains(err.Error(), test.wrong)):
			t.Errorf("%s %s: %v, want %s", test.name, test.typed, err, test.wrong)
		}
	}
}

// A device goes by what it knows and can take, and says what it does not.
func TestWhatADeviceGoesBy(t *testing.T) {
	v := settings.Values{"exchange_every": []byte(`"2 hours"`), "listen": []byte(`false`), "budget": []byte(`"much"`), "wings": []byte(`2`), "page": []byte(`100`)}
	if span, is := v.Span(settings.ExchangeEvery); !is || span != 2*time.Hour {
		t.Errorf("every %s, %v", span, is)
	}
	if yes, is := v.Is(settings.Listen); yes || !is {
		t.Errorf("listens %v, %v", yes, is)
	}
	if _, is := v.Number(settings.Budget); is {
		t.Error("takes a budget that is none")
	}
	if got := strings.Join(v.Unknown(), " "); got != "budget wings" {
		t.Errorf("unknown are %s", got)
	}
	same := settings.Values{"page": []byte(`100`), "listen": []byte(`false`), "exchange_every": []byte(`"2 hours"`), "budget": []byte(`"much"`), "wings": []byte(`2`)}
	if v.Digest() != same.Digest() || len(v.Digest()) != 12 || (settings.Values{}).Digest() != "" || v.Digest() == (settings.Values{"page": []byte(`100`)}).Digest() {
		t.Errorf("the digests are %q and %q", v.Digest(), same.Digest())
	}
}

func TestOlderPrograms(t *testing.T) {
	for _, test := range []struct {
		is, least string
		older     bool
	}{{"homing/1.3.9 (linux)", "1.4", true}, {"homing/1.4.0", "1.4", false}, {"1.10.0", "v1.9.5", false}, {"homing-device", "1.0", false}, {"homing (devel)", "2.0", false}, {"0.1.0", "0.1.1", true}} {
		if got := settings.Older(test.is, test.least); got != test.older {
			t.Errorf("%s is older than %s: %v", test.is, test.least, got)
		}
	}
}
