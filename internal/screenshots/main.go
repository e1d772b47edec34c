// Command screenshots takes the pictures in docs/screenshots from the demo: make screenshots.
package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"html"
	"log"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"homing/demo"
	"homing/internal/browser"
	"homing/link"
)

const program = "bin/homing"

func main() {
	out := flag.String("out", "docs/screenshots", "folder of the pictures")
	flag.Parse()
	if err := run(*out); err != nil {
		log.Fatal(err)
	}
}

func run(out string) error {
	folder, err := os.MkdirTemp("", "homing-screenshots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil { // the database's user must get through
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	if err := terminalPictures(ctx, out, folder); err != nil {
		return err
	}
	address, stop, err := startDemo(ctx, folder)
	if err != nil {
		return err
	}
	defer stop()
	if err := openConflict(ctx, folder); err != nil {
		return err
	}
	if err := fieldPicture(ctx, out, folder, address); err != nil {
		return fmt.Errorf("field.png: %w", err)
	}
	return pagePictures(ctx, out, address)
}

// startDemo runs the demo until it is up.
func startDemo(ctx context.Context, folder string) (address string, stop func(), err error) {
	cmd := exec.CommandContext(ctx, program, "demo", "--data", folder)
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		cmd.Process.Signal(syscall.SIGINT)
		cmd.Wait()
	}
	lines := bufio.NewScanner(stdout)
	for lines.Scan() {
		if rest, found := strings.CutPrefix(lines.Text(), "The console is at "); found {
			go func() {
				for lines.Scan() { // the pipe must not fill up
				}
			}()
			return rest, stop, nil
		}
	}
	stop()
	return "", nil, errors.New("the demo did not come up")
}

// openConflict lets the crews disagree once more, so that there is something to see.
func openConflict(ctx context.Context, folder string) error {
	shelter := demo.GaleShelter.String()
	for _, args := range [][]string{
		{"edit", "structures", shelter, "--set", "state=out of use", "--store", filepath.Join(folder, "mira.db")},
		{"edit", "structures", shelter, "--set", "state=worn", "--store", filepath.Join(folder, "tobin.db")},
		{"exchange", "--store", filepath.Join(folder, "mira.db")},
		{"exchange", "--store", filepath.Join(folder, "tobin.db")},
	} {
		if text, err := exec.CommandContext(ctx, program, append([]string{"local"},
			args...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w\n%s", args, err, text)
		}
	}
	return nil
}

func terminalPictures(ctx context.Context, out, folder string) error {
	story, err := exec.CommandContext(ctx, program, "demo", "--once", "--data", folder).Output()
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	if err := terminal(ctx, filepath.Join(out, "demo-once.png"), "make demo-once",
		string(bytes.ReplaceAll(story, []byte(folder), []byte(".demo")))); err != nil {
		return err
	}
	store := filepath.Join(folder, "mira.db")
	bridge := demo.LongBridge.String()
	for _, args := range [][]string{
		{"edit", "structures", bridge, "--set", "state=sound", "--clear", "note"},
		{"add", "repairs", "--set", "structure=" + bridge, "--set", "what=Replace hand rail", "--set", "status=wanted",
			"--set", "urgency=high", "--set", "crew=kell crew", "--set", "hours=6.5", "--set", "memo=Ask at the saw mill",
			"--set", `materials=["larch boards","coach bolts"]`},
		{"remove", "structures", demo.OldSignpost.String(), "--with-children"},
	} {
		if text, err := exec.CommandContext(ctx, program, append([]string{"local"},
			append(args, "--store", store)...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w\n%s", args, err, text)
		}
	}
	review, err := exec.CommandContext(ctx, program, "local", "review", "--store", store).Output()
	if err != nil {
		return fmt.Errorf("review: %w", err)
	}
	if err := terminal(ctx, filepath.Join(out, "local-review.png"), "homing local review", string(review)); err != nil {
		return err
	}
	if err := rehearsePicture(ctx, out); err != nil {
		return err
	}
	return importPicture(ctx, out, folder)
}

// rehearsePicture shows what a rehearsal of the demo's definitions says.
func rehearsePicture(ctx context.Context, out string) error {
	args := []string{"rehearse", "--seeds", "10", "--steps", "200"}
	for _, name := range []string{"trails", "structures", "inspections", "findings", "repairs"} {
		args = append(args, "demo/definitions/"+name+".yaml")
	}
	text, err := exec.CommandContext(ctx, program, args...).Output()
	if err != nil {
		return fmt.Errorf("rehearse: %w\n%s", err, text)
	}
	return terminal(ctx, filepath.Join(out, "rehearse.png"), "homing rehearse --seeds 10 --steps 200 "+
		"demo/definitions/{trails,structures,inspections,findings,repairs}.yaml", string(text))
}

// importPicture shows what an import says of a list with a mistake, and of the mended list.
func importPicture(ctx context.Context, out, folder string) error {
	list := filepath.Join(folder, "cabins.csv")
	var rows strings.Builder
	rows.WriteString("Hut No;Name;Valley;Beds;Opened;Heated\n")
	for n := range 40 {
		beds := fmt.Sprint(6 + n%20)
		if n == 11 {
			beds = "a dozen"
		}
		fmt.Fprintf(&rows, "H%02d;%s Hut;%s;%s;20%02d-06-01;%s\n", n,
			[]string{"Gale", "Fosk", "Arn", "Lorn", "Pell"}[n%5]+fmt.Sprint(" ", n), []string{"Kell", "Ostra", "Tamrin"}[n%3],
			beds, 10+n%15, []string{"yes", "no"}[n%2])
	}
	if err := os.WriteFile(list, []byte(rows.String()), 0o644); err != nil {
		return err
	}
	address, stop, err := startDemo(ctx, folder)
	if err != nil {
		return err
	}
	defer stop()
	token, err := signIn(ctx, address)
	if err != nil {
		return err
	}
	run := func() (said, notes string, err error) {
		var stdout, stderr bytes.Buffer
		cmd := exec.CommandContext(ctx, mustAbs(program), "import", "cabins.csv", "--yes")
		cmd.Dir, cmd.Stdout, cmd.Stderr = folder, &stdout, &stderr
		cmd.Env = append(os.Environ(), "HOMING_CENTRAL="+address, "HOMING_TOKEN="+token)
		err = cmd.Run()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			err = nil // the list has a mistake, on purpose
		}
		return stdout.String(), stderr.String(), err
	}
	wrong, notes, err := run()
	if err != nil {
		return err
	}
	proposal, refusal, _ := strings.Cut(notes, "homing: ")
	if err := os.WriteFile(list, []byte(strings.Replace(rows.String(), "a dozen", "12", 1)), 0o644); err != nil {
		return err
	}
	loaded, _, err := run()
	if err != nil {
		return err
	}
	text := proposal + wrong + "homing: " + refusal + "\n$ homing import cabins.csv --yes          # mended\n…\n" + loaded
	return terminal(ctx, filepath.Join(out, "import.png"), "homing import cabins.csv --yes", text)
}

func mustAbs(path string) string {
	absolute, err := filepath.Abs(path)
	if err != nil {
		log.Fatal(err)
	}
	return absolute
}

func signIn(ctx context.Context, address string) (string, error) {
	l, err := link.New(address, "", "screenshots", link.How{})
	if err != nil {
		return "", err
	}
	var got struct{ Token string }
	_, err = l.Call(ctx, "POST", "/v1/session", nil, map[string]string{"worker": "admin",
		"password": "larch-and-granite"}, &got)
	return got.Token, err
}

// terminal draws what a command printed as a terminal shows it.
func terminal(ctx context.Context, file, command, text string) error {
	tab, end, err := browser.Start(ctx, 1280, 240) // the picture grows with the text
	if err != nil {
		return err
	}
	defer end()
	text = regexp.MustCompile(`(?m)^loading the demo data.*\n`).ReplaceAllString(text, "")
	page := `<body style="margin:0;background:#1c1a17;color:#e6e0d8;font:13px/1.42 'DejaVu Sans Mono',monospace"><pre style="margin:0;padding:18px 22px;font:inherit">` +
		`<span style="color:#e8a478">$ ` + html.EscapeString(command) + "</span>\n" + html.EscapeString(text) + "</pre>"
	if err := chromedp.Do(tab, chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(page))); err != nil {
		return err
	}
	picture, err := chromedp.Run(tab, chromedp.FullScreenshot(100))
	if err != nil {
		return err
	}
	return os.WriteFile(file, picture, 0o644)
}

// The look is switched as a person does it.
var dark = chromedp.Click(chromedp.CSS(`button[aria-label="Dark look"]`))

type shot struct {
	file, path, wait string
	width, height    int
	before           []chromedp.Action[chromedp.Void]
}

func steps(all ...chromedp.Action[chromedp.Void]) []chromedp.Action[chromedp.Void] { return all }

func pagePictures(ctx context.Context, out, address string) error {
	tab, end, err := browser.Start(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	record := "/records/structures/" + demo.LongBridge.String()
	if err := chromedp.Do(tab, chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS("form")), chromedp.SendKeys(chromedp.CSS(`input[name=worker]`), "admin"),
		chromedp.SendKeys(chromedp.CSS(`input[name=password]`), "larch-and-granite\r"),
		chromedp.WaitVisible(chromedp.CSS(".bar"))); err != nil {
		return err
	}
	for _, s := range []shot{
		{file: "console-overview.png", path: "/", wait: ".chart svg"},
		{file: "console-records.png", path: "/records/structures?where=state%3Ddamaged&sort=name", wait: "tbody tr.open-row"},
		{file: "console-map.png", path: "/records/structures?view=map", wait: ".leaflet-container canvas"},
		{file: "console-record.png", path: record, wait: ".trail li"},
		{file: "console-changes.png", path: "/changes", wait: ".log li"},
		{file: "console-coverage.png", path: "/coverage/rounds", wait: "table.grid"},
		{file: "console-feeds.png", path: "/feeds", wait: "section.sheet"},
		{file: "console-devices.png", path: "/devices", wait: "tbody tr"},
		{file: "console-device.png", path: "/devices", wait: ".runs li",
			before: steps(chromedp.Click(`//tbody//a[contains(., "Ostra")]`))},
		{file: "console-conflicts.png", path: "/conflicts", wait: ".conflict .value"},
		{file: "console-people.png", path: "/people", wait: ".second"},
		{file: "console-exchange.png", path: "/exchanges", wait: `tbody a[href*="/records/"]`,
			before: steps(chromedp.Click(`(//tbody/tr[contains(., "Ostra") and td[4][normalize-space()="1"]]//a)[1]`))},
		{file: "console-edit.png", path: record, wait: "form.form",
			before: steps(chromedp.Click(`//button[contains(., "Edit")]`))},
		{file: "console-definitions.png", path: "/definitions/structures", wait: "table.plain", before: steps(dark)},
	} {
		if err := take(tab, out, address, s); err != nil {
			return fmt.Errorf("%s: %w", s.file, err)
		}
	}
	return nil
}

func take(tab context.Context, out, address string, s shot) error {
	if s.width == 0 {
		s.width, s.height = 1280, 800
	}
	actions := []chromedp.Action[chromedp.Void]{chromedp.EmulateViewport(int64(s.width), int64(s.height)),
		chromedp.Navigate(address + s.path)}
	actions = append(actions, s.before...)
	actions = append(actions, chromedp.WaitVisible(chromedp.CSS(s.wait)), chromedp.Sleep(900*time.Millisecond))
	if err := chromedp.Do(tab, actions...); err != nil {
		return err
	}
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, s.file), picture, 0o644)
}
