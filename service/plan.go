package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/engine/atomicfile"
	"yardtide/wire"
)

// This file keeps the plan: every version as it was written, in a file of its
// own; the last is in force. Versions are made by one at a time, on disk first.

// StalePlan is the refusal of a change that was made on an earlier version.
type StalePlan struct{ Base, Now int64 }

func (e StalePlan) Error() string {
	if e.Base == 0 {
		return fmt.Sprintf("there is a plan already, version %d; look at it (yardtide plan show) and change that one", e.Now)
	}
	return fmt.Sprintf("the change was made on version %d of the plan, and version %d is in force; look at what it says (yardtide plan show) and change that one", e.Base, e.Now)
}

// versions is where the plan's versions lie.
func (s *Service) versions() string { return filepath.Join(s.Dir, "plans") }

func (s *Service) versionFile(n int64) string {
	return filepath.Join(s.versions(), fmt.Sprintf("%06d.yaml", n))
}

// loadPlan reads the last version.
func (s *Service) loadPlan() error {
	if err := os.MkdirAll(s.versions(), 0o700); err != nil {
		return fmt.Errorf("making the folder of the plan's versions: %w", err)
	}
	entries, err := os.ReadDir(s.versions())
	if err != nil {
		return fmt.Errorf("listing the plan's versions: %w", err)
	}
	for _, e := range entries {
		number, isVersion := strings.CutSuffix(e.Name(), ".yaml")
		if n, err := strconv.ParseInt(number, 10, 64); isVersion && err == nil {
			s.version = max(s.version, n)
		}
	}
	if s.version == 0 { // an earlier version of the program kept one
		old := filepath.Join(s.Dir, "plan.yaml")
		if _, err := os.Stat(old); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err := os.Rename(old, s.versionFile(1)); err != nil {
			return fmt.Errorf("taking over the plan: %w", err)
		}
		s.version = 1
	}
	file := s.versionFile(s.version)
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("reading the plan: %w", err)
	}
	p, err := plantext.Parse(file, text)
	if err != nil {
		return fmt.Errorf("the plan in force has mistakes:\n%w", err)
	}
	s.plan, s.text = p, string(text)
	return nil
}

// Plan is the plan in force, nil before the first.
func (s *Service) Plan() *plan.Plan {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.plan
}

// PlanText is the plan in force as it was written, and its version: "" and 0
// before the first.
func (s *Service) PlanText() (text string, version int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text, s.version
}

func (s *Service) planOrEmpty() *plan.Plan {
	if p := s.Plan(); p != nil {
		return p
	}
	return &plan.Plan{}
}

// Values is what the plan in force says, in JSON.
func (s *Service) Values() map[string]any {
	if p := s.Plan(); p != nil {
		return plantext.Value(p)
	}
	return map[string]any{}
}

// ApplyPlan checks a plan that was made of version base, keeps it and puts it in
// force; it returns its version. The error is plantext.Problems when the plan has
// mistakes, StalePlan when base is not the version in force, or SecretRefused;
// nothing is changed then.
func (s *Service) ApplyPlan(ctx context.Context, file, text string, base int64) (version int64, err error) {
	if err := s.elsewherePlan(); err != nil {
		return 0, err
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	if _, now := s.PlanText(); base != now {
		return now, StalePlan{base, now}
	}
	by := wire.PlanByConsole
	if atTheMachine(ctx) {
		by = wire.PlanByCommand
	}
	return s.apply(ctx, file, text, by)
}

// planOn is the plan in force for an edit that was made on a version, 0 for whichever is. The error
// is StalePlan when another is in force.
func (s *Service) planOn(base int64) (text string, version int64, err error) {
	text, version = s.PlanText()
	if base != 0 && base != version {
		err = StalePlan{base, version}
	}
	return text, version, err
}

// editPlan changes the text in force, and returns its version then. Nobody else changes
// it meanwhile. The error is that of planOn, or of the edit.
func (s *Service) editPlan(ctx context.Context, base int64, edit func(text string) (string, error)) (version int64, err error) {
	if err := s.elsewherePlan(); err != nil {
		return 0, err
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	before, now, err := s.planOn(base)
	if err != nil {
		return now, err
	}
	after, err := edit(before)
	if err != nil {
		return now, err
	}
	return s.apply(ctx, "plan.yaml", after, wire.PlanByForm)
}

// apply puts a text in force, by a way. The caller holds changing.
func (s *Service) apply(ctx context.Context, file, text string, by wire.PlanWay) (int64, error) {
	p, err := plantext.Parse(file, []byte(text))
	if err != nil {
		return 0, err
	}
	if by != wire.PlanByLink { // it is another service's, that gave the secrets, too
		if err := s.mayUseAll(ctx, p); err != nil {
			return 0, err
		}
	}
	_, version := s.PlanText()
	version++
	// Who made it is kept first: the version is there when its text is.
	signed, err := json.Marshal(signature{At: time.Now().UTC(), By: by})
	if err != nil {
		return 0, fmt.Errorf("keeping who changed the plan: %w", err)
	}
	if err := atomicfile.Write(s.signatureFile(version), string(signed)+"\n"); err != nil {
		return 0, fmt.Errorf("keeping who changed the plan: %w", err)
	}
	if err := atomicfile.Write(s.versionFile(version), text); err != nil {
		return 0, fmt.Errorf("keeping the plan: %w", err)
	}
	if s.Planned != nil {
		s.Planned(p)
	}
	s.mu.Lock()
	s.plan, s.text, s.version = p, text, version
	s.mu.Unlock()
	for _, d := range s.Devices() {
		d.SetPlan(p)
	}
	s.drivers.forget()
	s.Log.Info("a plan was applied", "yard", p.Yard, "version", version)
	s.Changes.Tell()
	return version, nil
}
