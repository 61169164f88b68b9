// Command openapi prints the API's OpenAPI document, made from the code.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"testing/fstest"

	"yardtide/engine/upkeep"
	"yardtide/service"
	"yardtide/service/api"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// run prints the API document, or with "record" the schema of the open record.
func run() (err error) {
	if len(os.Args) > 1 && os.Args[1] == "record" {
		text, err := upkeep.RecordSchema()
		if err != nil {
			return err
		}
		_, err = os.Stdout.Write(text)
		return err
	}
	dir, err := os.MkdirTemp("", "yardtide-openapi-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := service.Open(context.Background(), service.Options{Dir: dir, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	text, err := api.New(s, fstest.MapFS{}, slog.New(slog.DiscardHandler)).OpenAPI()
	if err != nil {
		return err
	}
	_, err = os.Stdout.Write(text)
	return err
}
