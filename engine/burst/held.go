package burst

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/engine/source"
)

// This file removes files of the device that Yard Tide made itself. A file goes only while
// every copy that the plan asks of its item is proven, is looked at once more at the moment of
// its removal, and waits in a holding place before its bytes are really removed.

// heldFor is how long a file waits in the holding place.
const heldFor = 7 * 24 * time.Hour

// holdSafe takes an item's file at path into the holding place, if the item is safe and the
// file is the one that was proven. It returns whether the file went.
func (m *Maker) holdSafe(ctx context.Context, it records.Item, path, holding string) (bool, error) {
	sum, safe, err := m.isSafe(ctx, it)
	if err != nil || !safe {
		return false, err
	}
	f, err := source.Open(ctx, path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("opening what is safe: %w", err)
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return false, fmt.Errorf("reading what is safe: %w", err)
	}
	if err := f.Unchanged(ctx, it); err != nil || hex.EncodeToString(h.Sum(nil)) != sum {
		return false, nil // the next scan finds the file as it is now
	}
	// The file was read for a while: the plan and the copies may have changed.
	if _, safe, err = m.isSafe(ctx, it); err != nil || !safe {
		return false, err
	}
	if same, err := f.IsStill(ctx, path); err != nil || !same {
		return false, err
	}
	if err := os.MkdirAll(holding, 0o700); err != nil {
		return false, fmt.Errorf("making the holding place: %w", err)
	}
	to := filepath.Join(holding, strconv.FormatInt(time.Now().Unix(), 10)+" "+filepath.Base(path))
	if _, err := os.Lstat(to); err == nil {
		return false, nil // another of its name went this second
	}
	if err := os.Rename(path, to); err != nil {
		return false, fmt.Errorf("taking what is safe into the holding place: %w", err)
	}
	m.Log.Info("a file waits in the holding place", "device", m.Device, "file", path, "at", to, "for", heldFor)
	return true, nil
}

// isSafe tells whether each destination that the plan asks for has a proven copy of an item
// as shot, and with which hash.
func (m *Maker) isSafe(ctx context.Context, it records.Item) (sum string, safe bool, err error) {
	rule, named := m.Plan().Rules[it.Rule]
	if !named || len(rule.To) == 0 {
		return "", false, nil
	}
	of, err := m.Records.Catalogue.CopiesOf(ctx, []int64{it.ID})
	if err != nil {
		return "", false, err
	}
	proven := map[string]bool{}
	for _, c := range of[it.ID] {
		if c.Shelf != plan.Main || c.Reduced || c.SHA256 == "" || c.State != queue.Safe || !m.Counts(c.Destination) {
			continue
		}
		if sum != "" && sum != c.SHA256 {
			return "", false, nil
		}
		sum, proven[c.Destination] = c.SHA256, true
	}
	for _, name := range rule.To {
		if !proven[name] {
			return "", false, nil
		}
	}
	return sum, true, nil
}

// emptyHolding removes what has waited long enough in a holding place.
func emptyHolding(holding string, now time.Time) error {
	entries, err := os.ReadDir(holding)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking through the holding place: %w", err)
	}
	for _, e := range entries {
		at, _, _ := strings.Cut(e.Name(), " ")
		seconds, err := strconv.ParseInt(at, 10, 64)
		if err != nil || now.Sub(time.Unix(seconds, 0)) < heldFor {
			continue // it was not put there by holdSafe, or not long ago
		}
		if err := os.Remove(filepath.Join(holding, e.Name())); err != nil {
			return fmt.Errorf("removing what has waited in the holding place: %w", err)
		}
	}
	return nil
}
