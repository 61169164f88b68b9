package planbook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/wire/planwire"
)

// This file tells the versions of the plan, and what each changed.

// signature is when and by what a version of the plan was made, as it lies beside its text.
type signature struct {
	At time.Time        `json:"at"`
	By planwire.PlanWay `json:"by"`
}

func (b *Book) signatureFile(n int64) string {
	return filepath.Join(b.folder(), fmt.Sprintf("%06d.json", n))
}

// NoVersion says that there is no such version of the plan.
type NoVersion struct{ Version, Now int64 }

func (e NoVersion) Error() string {
	if e.Now == 0 {
		return "there is no plan yet"
	}
	return fmt.Sprintf("the plan has no version %d; it has 1 to %d (yardtide plan history)", e.Version, e.Now)
}

// versionText reads the text of one; 0 is the empty one before the first.
func (b *Book) versionText(n int64) (string, error) {
	_, now := b.Text()
	if n == 0 {
		return "", nil
	}
	if n < 0 || n > now {
		return "", NoVersion{n, now}
	}
	text, err := os.ReadFile(b.versionFile(n))
	if errors.Is(err, fs.ErrNotExist) {
		return "", NoVersion{n, now}
	}
	if err != nil {
		return "", fmt.Errorf("reading version %d of the plan: %w", n, err)
	}
	return string(text), nil
}

// mostVersions is how many of a plan's latest versions are told at once.
const mostVersions = 100

// History tells the plan's versions, the newest first, with what each changed. Before is
// the version before which to go on, 0 for the newest.
func (b *Book) History(before int64) ([]planwire.PlanVersion, error) {
	_, now := b.Text()
	last := now
	if before > 0 {
		last = min(last, before-1)
	}
	list := []planwire.PlanVersion{}
	for n := last; n > max(0, last-mostVersions); n-- {
		one, err := b.tellVersion(n)
		if err != nil {
			return nil, err
		}
		one.InForce = n == now
		list = append(list, one)
	}
	return list, nil
}

// tellVersion tells one version, and what it changed.
func (b *Book) tellVersion(n int64) (planwire.PlanVersion, error) {
	v := planwire.PlanVersion{Version: n, By: planwire.PlanByUnknown}
	text, err := b.versionText(n)
	if err != nil {
		return v, err
	}
	before, err := b.versionText(n - 1)
	var none NoVersion
	if err != nil && !errors.As(err, &none) {
		return v, err
	}
	var m signature
	switch kept, err := os.ReadFile(b.signatureFile(n)); {
	case err == nil && json.Unmarshal(kept, &m) == nil:
		v.At, v.By = m.At, m.By
	case err == nil || errors.Is(err, fs.ErrNotExist): // made before that was kept
		info, err := os.Stat(b.versionFile(n))
		if err != nil {
			return v, fmt.Errorf("looking at version %d of the plan: %w", n, err)
		}
		v.At = info.ModTime().UTC()
	default:
		return v, fmt.Errorf("reading who made version %d of the plan: %w", n, err)
	}
	v.Says = Changes(before, text)
	return v, nil
}

// Changes tells what changed from one text to the next.
func Changes(before, after string) []string {
	if before == after {
		return []string{"Nothing: the text is the same."}
	}
	is, err := plantext.Parse("plan", []byte(after))
	if err != nil { // what a version of the program took may be refused by a later one
		return []string{"It cannot be read any more: what it says is refused today."}
	}
	var was *plan.Plan
	if before != "" {
		if was, err = plantext.Parse("plan", []byte(before)); err != nil {
			return []string{"What it changed cannot be told: what was before is refused today."}
		}
	}
	says := words.Changes(was, is)
	if len(says) == 0 {
		says = []string{"Comments, order or spelling; it means the same."}
	}
	return says
}

// WouldChange tells what a text would change, in sentences.
func (b *Book) WouldChange(text string) []string {
	now, _ := b.Text()
	return Changes(now, text)
}

// Diff is what changed in the text between two versions, as a unified diff, and in
// sentences. The error is NoVersion when there is none.
func (b *Book) Diff(from, to int64) (planwire.PlanDiff, error) {
	before, err := b.versionText(from)
	if err != nil {
		return planwire.PlanDiff{}, err
	}
	after, err := b.versionText(to)
	if err != nil {
		return planwire.PlanDiff{}, err
	}
	text, err := TextDiff(before, after, fmt.Sprintf("version %d", from), fmt.Sprintf("version %d", to))
	if err != nil {
		return planwire.PlanDiff{}, err
	}
	d := planwire.PlanDiff{From: from, To: to, Text: text, Says: []string{}}
	if to > 0 && before != after {
		d.Says = Changes(before, after)
	}
	return d, nil
}

// TextDiff is what changed between two texts, as a unified diff; "" for the same.
func TextDiff(before, after, from, to string) (string, error) {
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(before),
		B: difflib.SplitLines(after), FromFile: from, ToFile: to, Context: 3})
	if err != nil {
		return "", fmt.Errorf("comparing two texts of the plan: %w", err)
	}
	return text, nil
}

// GoBack puts an earlier version in force again, as a new one: its text byte for byte.
// Base is the version that is in force, as whoever asks saw it; the error is Stale
// when it is another, NoVersion when there is none, else one of Closed or Put.
func (b *Book) GoBack(ctx context.Context, to, base int64) (version int64, err error) {
	err = b.byKeeper(func(put Put) error {
		_, now := b.Text()
		if version = now; base != now {
			return Stale{base, now}
		}
		text, err := b.versionText(to)
		if err != nil {
			return err
		}
		if text == "" {
			return NoVersion{to, now}
		}
		version, err = put(ctx, fmt.Sprintf("version %d", to), text, planwire.PlanByUndo)
		return err
	})
	return version, err
}
