//go:build !linux

package folder

import (
	"context"
	"errors"
	"io/fs"

	"yardtide/engine/destination"
)

// Space implements destination.Spacer: this system is not asked yet.
func (d Driver) Space(context.Context) (destination.Space, error) {
	return destination.Space{Free: -1, Used: -1}, nil
}

// link gives a file a second name.
func (o *opened) link(_ *below, from string, _ *below, to string) error { return o.Link(from, to) }

func (o *opened) renameNoReplace(*below, string, *below, string) error {
	return errors.New("this file system has no hard links, which are needed to put files in place safely")
}

// This system is not asked for these yet.
func names(fs.FileInfo) uint64   { return 1 }
func inode(fs.FileInfo) string   { return "" }
func changed(fs.FileInfo) string { return "" }
