package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"yardtide/cli"
	"yardtide/core/plan"
	"yardtide/engine/probe"
	"yardtide/engine/rendition"
	"yardtide/engine/scan"
	"yardtide/wire/planwire"
)

// makePicture makes of a picture what a form makes of it, and writes that to a new file, if one is named.
func makePicture(ctx context.Context, picture string, form plan.Rendition,
	to string) (made cli.MadePicture, err error) {
	f, err := scan.Open(picture)
	if err != nil {
		return made, fmt.Errorf("opening the picture: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return made, fmt.Errorf("looking at the picture: %w", err)
	}
	facts, err := probe.Read(f, info.Size(), info.ModTime(), time.Local)
	if err != nil {
		return made, fmt.Errorf("reading the picture: %w", err)
	}
	src := rendition.Source{F: f, Size: info.Size(), ContentType: facts.ContentType}
	is, err := rendition.SizeOf(src)
	if err != nil {
		return made, fmt.Errorf("%s is no picture that can be made smaller: %w", picture, err)
	}
	made.Kind, made.AsShot = facts.Kind, planwire.FormSize{Width: is.W, Height: is.H, Bytes: info.Size()}
	content, size, err := rendition.Bytes(ctx, src, form)
	var as rendition.AsShot
	switch {
	case errors.As(err, &as):
		made.Made, made.Why = made.AsShot, as.Why
		return made, nil
	case err != nil:
		return made, err
	}
	made.Made = planwire.FormSize{Width: size.W, Height: size.H, Bytes: size.Bytes}
	if to == "" {
		return made, nil
	}
	return made, writeNew(to, content)
}

// writeNew writes a file that is not there yet.
func writeNew(file string, content []byte) (err error) {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("writing what was made: %w", err)
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("writing what was made: %w", errors.Join(err, os.Remove(file)))
	}
	return nil
}
