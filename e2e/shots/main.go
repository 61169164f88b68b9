// Command shots takes docs/screenshots from the demo: the console's pages in
// headless Chromium, and the commands in a terminal window under Xvfb.
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"yardtide/e2e/browser"
)

const out = "docs/screenshots"

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) (err error) {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "yardtide-shots-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	link, stop, err := start("demo", "-dir", dir, "-listen", "127.0.0.1:7410", "-storage", "127.0.0.1:7490")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	if err := console(ctx, link, dir); err != nil {
		return err
	}
	if err := setup(ctx, dir); err != nil {
		return err
	}
	return terminal(dir)
}

// start starts the program and waits for the console's address.
func start(args ...string) (link string, stop func() error, err error) {
	p := exec.Command("bin/yardtide", args...)
	pipe, err := p.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := p.Start(); err != nil {
		return "", nil, err
	}
	stop = func() error { _ = p.Process.Signal(os.Interrupt); return p.Wait() }
	for lines := bufio.NewScanner(pipe); lines.Scan(); {
		if link, is := strings.CutPrefix(lines.Text(), "console   "); is {
			return link, stop, nil
		}
	}
	return "", nil, errors.Join(fmt.Errorf("%s did not start", args[0]), stop())
}

// setup takes the first hour of a machine on which nothing is set up, with the demo's
// pictures on it.
func setup(ctx context.Context, demo string) (err error) {
	dir := filepath.Join(demo, "machine")
	if err := os.CopyFS(filepath.Join(dir, "Pictures"),
		os.DirFS(filepath.Join(demo, "chart-table", "Restoration"))); err != nil {
		return err
	}
	for _, folder := range []string{"Documents", "loft", "shed"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return err
		}
	}
	link, stop, err := start("serve", "-data", filepath.Join(dir, "data"), "-root", dir, "-device", "chart-table",
		"-listen", "127.0.0.1:7411")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	b, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	place := func(name string, first bool) []func() error {
		label := "Add another place"
		if first {
			label = "Add a place"
		}
		return []func() error{
			func() error { return b.Click(label) },
			func() error { return b.Type("Name", name) },
			func() error { return b.Type("Folder", filepath.Join(dir, name)) },
			func() error { return b.Click("Test it") },
			func() error { time.Sleep(2 * time.Second); return b.Click("Use this place") },
			func() error { time.Sleep(time.Second); return nil },
		}
	}
	next := func() error { err := b.Click("Next"); time.Sleep(1500 * time.Millisecond); return err }
	steps := append([]func() error{func() error { return b.Open(link) },
		func() error { time.Sleep(2 * time.Second); return b.Click("Of this computer") },
		func() error { time.Sleep(time.Second); return nil }}, place("loft", true)...)
	steps = append(append(steps, place("shed", false)...),
		next, func() error { return b.Click("What is in it: Pictures") },
		func() error { time.Sleep(3 * time.Second); return picture(b, "setup-what") },
		next, next, next, next, func() error { return picture(b, "setup-start") },
	)
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// picture takes the page as it is when what moves came to rest.
func picture(b *browser.Browser, name string) error {
	time.Sleep(600 * time.Millisecond)
	png, err := b.Shot()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
}

// phone takes the page of a phone that handed a few pictures over.
func phone(ctx context.Context, page, gallery string) (err error) {
	b, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	files, err := filepath.Glob(filepath.Join(gallery, "*", "*.jpg"))
	if err != nil {
		return err
	}
	for _, step := range []func() error{b.Phone, func() error { return b.Open(page) },
		func() error {
			time.Sleep(time.Second)
			return b.Pick("Pictures and clips", files[:min(len(files), 9)]...)
		},
		func() error { time.Sleep(12 * time.Second); return picture(b, "phone-page") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func console(ctx context.Context, link, demo string) (err error) {
	b, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	shot := func(name string) error { return picture(b, name) }
	steps := []func() error{
		func() error { return b.Open(link) },
		func() error { time.Sleep(3 * time.Second); return b.Click("chart-table") }, // in the stand-ins' panel
		func() error { return b.Click("Put a camera's card in") },
		func() error { time.Sleep(3 * time.Second); return b.Click("galley-phone") },
		func() error { _, err := browser.Eval[any](b, "window.scrollTo(0, 0)"); return err },
		func() error { return shot("now") },
		func() error { return b.Click("Wi-Fi") },
		func() error { return b.Click("Now") },
		func() error { _, err := browser.Eval[any](b, "window.scrollTo(0, 0)"); return err },
		func() error { return b.Click("Cellular") },
		func() error { time.Sleep(2 * time.Second); return b.Click("Queue") },
		func() error { return shot("queue") },
		func() error { return b.Click("State") },
		func() error { return b.Click("safe") },
		func() error { return b.Click("IMG_") },
		func() error { return b.Click("See it smaller") },
		func() error { time.Sleep(500 * time.Millisecond); return b.Click("Show both") },
		func() error { time.Sleep(4 * time.Second); return shot("smaller") },
		func() error { return b.Click("Close the comparison") },
		func() error { return b.Click("Close") },
		func() error { return b.Click("State") },
		func() error { return b.Click("waiting") },
		func() error { return b.Click("Library") },
		func() error { time.Sleep(6 * time.Second); return shot("library") },
		func() error { return b.Click("Choose some") },
		func() error { return b.Click("Bring back all") },
		func() error { return b.Click("Into a folder here") },
		func() error { return b.Type("Folder of this computer", "/media/stick/Pictures") },
		func() error { time.Sleep(2 * time.Second); return shot("bring-back") },
		func() error { return b.Click("Not now") },
		func() error { return b.Click("Room") },
		func() error { time.Sleep(2 * time.Second); return b.Click("Make room on chart-table") },
		func() error { time.Sleep(2 * time.Second); return shot("room") },
		func() error { return b.Click("Not now") },
		func() error { return b.Click("Destinations") },
		func() error { return shot("destinations") },
		func() error { return b.Click("Devices") },
		func() error { return b.Click("Add a device") },
		func() error { return b.Type("What the device is called", "loft-phone") },
		func() error { return b.Click("Make a code") },
		func() error { time.Sleep(time.Second); return shot("devices") },
		func() error { return b.Click("Cancel") },
		func() error { return b.Click("Add a device") },
		func() error { return b.Click("A phone, by its browser or an app") },
		func() error { return b.Type("What the phone is called", "toms-phone") },
		func() error { return b.Click("tom") },
		func() error { return b.Click("Add it") },
		func() error {
			time.Sleep(time.Second)
			page, err := browser.Eval[string](b, `[...document.querySelectorAll('code')].map(c => c.innerText).find(t => t.includes('/p/#'))`)
			return errors.Join(err, phone(ctx, page, filepath.Join(demo, "chart-table", "Restoration")))
		},
		func() error { return b.Click("Plan") },
		func() error { return b.Click("up to 6.0 MB per day") },
		func() error { return b.Type("Carries at most", "45") },
		func() error { time.Sleep(3 * time.Second); return shot("plan") },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// terminal runs commands in an xterm on a display of its own.
func terminal(dir string) (err error) {
	token, err := os.ReadFile(filepath.Join(dir, "data", "token"))
	if err != nil {
		return err
	}
	bad := filepath.Join(dir, "plan.yaml")
	versions, err := filepath.Glob(filepath.Join(dir, "data", "plans", "*.yaml"))
	if err != nil || len(versions) == 0 {
		return errors.Join(err, errors.New("the demo has no plan"))
	}
	plan, err := os.ReadFile(versions[len(versions)-1])
	if err != nil {
		return err
	}
	mistakes := strings.NewReplacer("Europe/Lisbon", "Europe/Lisboa", "over: cellular", "over: pigeon", "at least 40%",
		"at least 140%", "rule: bench", "rule: bunk").Replace(string(plan))
	if err := os.WriteFile(bad, []byte(mistakes), 0o644); err != nil {
		return err
	}
	other := strings.NewReplacer("6 MB per day", "200 MB per month", "      - folder: Restoration\n",
		"      - folder: Restoration\n        leave-out: [\"*.mp4\"]\n").Replace(string(plan))
	if err := os.WriteFile(filepath.Join(dir, "try.yaml"), []byte(other), 0o644); err != nil {
		return err
	}
	const display = ":97"
	x := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	if err := x.Start(); err != nil {
		return fmt.Errorf("starting Xvfb: %w", err)
	}
	defer func() { _ = x.Process.Kill(); _ = x.Wait() }()
	time.Sleep(time.Second)
	binary, err := filepath.Abs("bin/yardtide")
	if err != nil {
		return err
	}
	for name, command := range map[string]string{
		"status": "yardtide status",
		"why":    "yardtide why keel.jpg; yardtide why MOV_0357.mp4",
		"try": "yardtide rendition list; yardtide try chart-table/Restoration/Curlew/hull-00.jpg -as family " +
			"-rule bench; yardtide rule list",
		"plan-try":    "yardtide plan try try.yaml",
		"strays":      "yardtide strays",
		"look":        "yardtide look Restoration -device chart-table",
		"destination": "yardtide destination list; yardtide destination test tool-shed; yardtide destination show sail-loft",
	} {
		script := fmt.Sprintf("cd %s; export PATH=%s:$PATH; clear; printf '$ %%s\\n' '%s'; %s; sleep 60", dir,
			filepath.Dir(binary), command, command)
		term := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "140x42+0+0", "-bg", "#fbfcf8",
			"-fg", "#12292e", "-e", "bash", "-c", script)
		term.Env = append(os.Environ(), "DISPLAY="+display, "YARDTIDE_URL=http://127.0.0.1:7410", "YARDTIDE_TOKEN="+
			strings.TrimSpace(string(token)))
		if err := term.Start(); err != nil {
			return fmt.Errorf("starting xterm: %w", err)
		}
		time.Sleep(2500 * time.Millisecond)
		shot := exec.Command("import", "-window", "root", filepath.Join(out, name+".png"))
		shot.Env = append(os.Environ(), "DISPLAY="+display)
		text, err := shot.CombinedOutput()
		_ = term.Process.Kill()
		_ = term.Wait()
		if err != nil {
			return fmt.Errorf("taking a picture of the terminal: %w: %s", err, text)
		}
	}
	return nil
}
