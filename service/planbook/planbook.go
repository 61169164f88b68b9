// Package planbook keeps the plan: every version as it was written, in a file of its own, with who made it; the
// last is in force. Versions are made by one at a time, on disk first. It knows neither devices nor storages: who
// opens a Book is told of each plan.
package planbook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/engine/atomicfile"
	"yardtide/service/caller"
	"yardtide/wire/planwire"
)

// Book is the plan of one data directory. It is safe for concurrent use.
type Book struct {
	Dir string // the data directory
	Log *slog.Logger
	// Closed is the refusal to change a plan that is another service's; nil where it is this one's.
	Closed func() error
	// May refuses a plan that whoever asks may not put in force.
	May func(ctx context.Context, p *plan.Plan) error
	// Planned is called with a plan before it is in force, if it is there; InForce after.
	Planned, InForce func(p *plan.Plan)

	changing sync.Mutex // the plan is changed by one at a time

	mu      sync.Mutex
	plan    *plan.Plan // nil before the first
	text    string
	version int64 // 0 before the first
}

// Stale is the refusal of a change that was made on an earlier version.
type Stale struct{ Base, Now int64 }

func (e Stale) Error() string {
	if e.Base == 0 {
		return fmt.Sprintf("there is a plan already, version %d; look at it (yardtide plan show) and change that one", e.Now)
	}
	return fmt.Sprintf("the change was made on version %d of the plan, and version %d is in force; look at what it "+
		"says (yardtide plan show) and change that one", e.Base, e.Now)
}

// folder is where the plan's versions lie.
func (b *Book) folder() string { return filepath.Join(b.Dir, "plans") }

func (b *Book) versionFile(n int64) string {
	return filepath.Join(b.folder(), fmt.Sprintf("%06d.yaml", n))
}

// Load reads the last version.
func (b *Book) Load() error {
	if err := os.MkdirAll(b.folder(), 0o700); err != nil {
		return fmt.Errorf("making the folder of the plan's versions: %w", err)
	}
	entries, err := os.ReadDir(b.folder())
	if err != nil {
		return fmt.Errorf("listing the plan's versions: %w", err)
	}
	for _, e := range entries {
		number, isVersion := strings.CutSuffix(e.Name(), ".yaml")
		if n, err := strconv.ParseInt(number, 10, 64); isVersion && err == nil {
			b.version = max(b.version, n)
		}
	}
	if b.version == 0 { // an earlier version of the program kept one
		old := filepath.Join(b.Dir, "plan.yaml")
		if _, err := os.Stat(old); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err := os.Rename(old, b.versionFile(1)); err != nil {
			return fmt.Errorf("taking over the plan: %w", err)
		}
		b.version = 1
	}
	file := b.versionFile(b.version)
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("reading the plan: %w", err)
	}
	p, err := plantext.Parse(file, text)
	if err != nil {
		return fmt.Errorf("the plan in force has mistakes:\n%w", err)
	}
	b.plan, b.text = p, string(text)
	return nil
}

// Plan is the plan in force, nil before the first.
func (b *Book) Plan() *plan.Plan {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.plan
}

// PlanOrEmpty is the plan in force, an empty one before the first.
func (b *Book) PlanOrEmpty() *plan.Plan {
	if p := b.Plan(); p != nil {
		return p
	}
	return &plan.Plan{}
}

// Text is the plan in force as it was written, and its version: "" and 0
// before the first.
func (b *Book) Text() (text string, version int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text, b.version
}

// On is the text in force for an edit that was made on a version, 0 for whichever is. The error
// is Stale when another is in force.
func (b *Book) On(base int64) (text string, version int64, err error) {
	text, version = b.Text()
	if base != 0 && base != version {
		err = Stale{base, version}
	}
	return text, version, err
}

// Put checks a text, keeps it and puts it in force, by a way; it returns its version. The errors are
// plantext.Problems, and those of May.
type Put func(ctx context.Context, file, text string, by planwire.PlanWay) (version int64, err error)

// Alone does something while nobody else changes the plan.
func (b *Book) Alone(do func(put Put) error) error {
	b.changing.Lock()
	defer b.changing.Unlock()
	return do(b.put)
}

// byKeeper is Alone for a change of the keeper's: the error is that of Closed where the plan is another service's.
func (b *Book) byKeeper(do func(put Put) error) error {
	if err := b.Closed(); err != nil {
		return err
	}
	return b.Alone(do)
}

// Apply puts a plan in force that was made of version base, and returns its version. The errors are those of
// Put and of Closed, and Stale when base is not the version in force; nothing is changed then.
func (b *Book) Apply(ctx context.Context, file, text string, base int64) (version int64, err error) {
	err = b.byKeeper(func(put Put) error {
		if _, now := b.Text(); base != now {
			version = now
			return Stale{base, now}
		}
		by := planwire.PlanByConsole
		if caller.IsAtTheMachine(ctx) {
			by = planwire.PlanByCommand
		}
		version, err = put(ctx, file, text, by)
		return err
	})
	return version, err
}

// Edit changes the text in force, and returns its version then. The errors are those of Put, On, Closed, and
// of the edit.
func (b *Book) Edit(ctx context.Context, base int64, edit func(text string) (string, error)) (version int64,
	err error) {
	err = b.byKeeper(func(put Put) error {
		before, now, err := b.On(base)
		if version = now; err != nil {
			return err
		}
		after, err := edit(before)
		if err != nil {
			return err
		}
		version, err = put(ctx, "plan.yaml", after, planwire.PlanByForm)
		return err
	})
	return version, err
}

// put is Put. The caller holds changing.
func (b *Book) put(ctx context.Context, file, text string, by planwire.PlanWay) (int64, error) {
	p, err := plantext.Parse(file, []byte(text))
	if err != nil {
		return 0, err
	}
	if by != planwire.PlanByLink { // it is another service's, that gave the secrets, too
		if err := b.May(ctx, p); err != nil {
			return 0, err
		}
	}
	_, version := b.Text()
	version++
	// Who made it is kept first: the version is there when its text is.
	signed, err := json.Marshal(signature{At: time.Now().UTC(), By: by})
	if err != nil {
		return 0, fmt.Errorf("keeping who changed the plan: %w", err)
	}
	if err := atomicfile.Write(b.signatureFile(version), string(signed)+"\n"); err != nil {
		return 0, fmt.Errorf("keeping who changed the plan: %w", err)
	}
	if err := atomicfile.Write(b.versionFile(version), text); err != nil {
		return 0, fmt.Errorf("keeping the plan: %w", err)
	}
	if b.Planned != nil {
		b.Planned(p)
	}
	b.mu.Lock()
	b.plan, b.text, b.version = p, text, version
	b.mu.Unlock()
	b.Log.Info("a plan was applied", "yard", p.Yard, "version", version)
	b.InForce(p)
	return version, nil
}
