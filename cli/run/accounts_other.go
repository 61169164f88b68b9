//go:build !linux

package run

import (
	"context"
	"errors"
	"log/slog"

	"yardtide/cli"
	"yardtide/core/plan"
	"yardtide/service"
)

var errLinuxOnly = errors.New("several accounts of one computer are served on Linux only")

func accounts(context.Context, *service.Service, string, []string, string, string, *slog.Logger) error {
	return errLinuxOnly
}

func (h runsHere) account(context.Context, cli.Env, []string) error { return errLinuxOnly }

// ownPlaces does nothing here: no accounts are run.
func ownPlaces(*plan.Plan, string, []string, *slog.Logger) {}
