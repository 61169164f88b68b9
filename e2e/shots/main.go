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
	demo := exec.Command("bin/yardtide", "demo", "-dir", dir, "-listen", "127.0.0.1:7410", "-storage", "127.0.0.1:7490")
	pipe, err := demo.StdoutPipe()
	if err != nil {
		return err
	}
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() { _ = demo.Process.Signal(os.Interrupt); err = errors.Join(err, demo.Wait()) }()
	link := ""
	for lines := bufio.NewScanner(pipe); link == "" && lines.Scan(); {
		link, _ = strings.CutPrefix(lines.Text(), "console   ")
		if !strings.HasPrefix(lines.Text(), "console   ") {
			link = ""
		}
	}
	if link == "" {
		return errors.New("the demo did not start")
	}
	if err := console(ctx, link); err != nil {
		return err
	}
	return terminal(dir)
}

func console(ctx context.Context, link string) (err error) {
	b, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	shot := func(name string) error {
		time.Sleep(600 * time.Millisecond) // what moves comes to rest
		png, err := b.Shot()
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	steps := []func() error{
		func() error { return b.Open(link) },
		func() error { time.Sleep(3 * time.Second); return shot("now") },
		func() error { return b.Click("Wi-Fi") },
		func() error { return b.Click("Now") },
		func() error { return b.Scheme("dark") },
		func() error { _, err := browser.Eval[any](b, "window.scrollTo(0, 0)"); return err },
		func() error { return shot("now-dark") },
		func() error { return b.Scheme("light") },
		func() error { return b.Size(390, 844) },
		func() error { return shot("now-phone") },
		func() error { return b.Size(1280, 800) },
		func() error { return b.Click("Cellular") },
		func() error { time.Sleep(2 * time.Second); return b.Click("Queue") },
		func() error { return shot("queue") },
		func() error { return b.Click("State") },
		func() error { return b.Click("safe") },
		func() error { return b.Click("IMG_") },
		func() error { return shot("story") },
		func() error { return b.Click("Close") },
		func() error { return b.Click("State") },
		func() error { return b.Click("waiting") },
		func() error { return b.Size(390, 844) },
		func() error { return shot("queue-phone") },
		func() error { return b.Click("Destinations") },
		func() error { return shot("destinations-phone") },
		func() error { return b.Size(1280, 800) },
		func() error { return shot("destinations") },
		func() error { return b.Click("Add a destination") },
		func() error { return b.Click("A web storage") },
		func() error { return shot("destination-add") },
		func() error { return b.Click("Close") },
		func() error { return b.Click("Plan") },
		func() error { time.Sleep(time.Second); return shot("plan") },
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
	plan, err := os.ReadFile(filepath.Join(dir, "data", "plans", "000001.yaml"))
	if err != nil {
		return err
	}
	mistakes := strings.NewReplacer("Europe/Lisbon", "Europe/Lisboa", "over: cellular", "over: pigeon", "at least 40%", "at least 140%", "rule: bench", "rule: bunk").Replace(string(plan))
	if err := os.WriteFile(bad, []byte(mistakes), 0o644); err != nil {
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
		"status":       "yardtide status",
		"queue-list":   "yardtide queue -n 24",
		"why":          "yardtide why keel.jpg; yardtide why MOV_0357.mp4",
		"plan-check":   "yardtide plan check plan.yaml",
		"plan-history": "sed s:6.MB.per.day:200\\ MB\\ per\\ month: data/plans/000001.yaml > changed.yaml; yardtide plan apply changed.yaml; yardtide plan history; yardtide plan diff 2",
		"help":         "yardtide help; yardtide help send-now",
		"watch":        "yardtide watch",
		"destination":  "yardtide destination list; yardtide destination test tool-shed; yardtide destination show sail-loft",
	} {
		script := fmt.Sprintf("cd %s; export PATH=%s:$PATH; clear; printf '$ %%s\\n' '%s'; %s; sleep 60", dir, filepath.Dir(binary), command, command)
		term := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "140x42+0+0", "-bg", "#fbfcf8", "-fg", "#12292e", "-e", "bash", "-c", script)
		term.Env = append(os.Environ(), "DISPLAY="+display, "YARDTIDE_URL=http://127.0.0.1:7410", "YARDTIDE_TOKEN="+strings.TrimSpace(string(token)))
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
