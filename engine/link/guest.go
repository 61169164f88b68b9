package link

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"path"
	"reflect"
	"strings"
	"time"
	"unicode/utf8"

	"yardtide/core/plan"
	"yardtide/engine/records"
)

// This file decides what a joined device may ask and say. A device is a guest: it speaks of
// its own items, at places of its own part of the plan. Every message is checked whole before
// any of it counts.

// NotYours is the refusal of a question about a destination that is in no part of the device.
type NotYours struct{ Destination string }

func (e NotYours) Error() string {
	return fmt.Sprintf("%q is not a destination of this device's part of the plan", e.Destination)
}

// The bounds of what a device asks and says.
const (
	mostWord   = 128      // characters of names, marks and hashes
	mostSaid   = 2 << 10  // characters of a sentence
	mostPath   = 4 << 10  // bytes of a path
	mostBytes  = 1 << 50  // of a file, or of room
	mostEnds   = 1000     // claims given back at once
	mostRooms  = 64       // destinations in a question of room
	mostLists  = 1 << 14  // entries of a list or a map
	mostClaims = 512      // rights that a device has at once: a name and a turn of each small file on its way
	mostFound  = 64       // files in an answer
	mostAnswer = 16 << 20 // bytes
)

// about is the destination that a question is about, "" where it is about none.
func (q Asked) about(what string) string {
	switch what {
	case "alike", "taken", "turn":
		return q.Copy.Destination
	case "hashed":
		return q.Found.Destination
	case "holder", "found", "lost", "name":
		return q.Destination
	}
	return ""
}

// check tells what is wrong with a question; the error is records.Wrong.
func (q Asked) check(what string) error {
	wrong := func(why string) error { return records.Wrong{Says: why} }
	for _, n := range []int64{q.Bytes, q.Copy.Bytes, q.Copy.ID, q.Found.Size} {
		if n < 0 || n > mostBytes {
			return wrong(fmt.Sprintf("a number of bytes cannot be %d", n))
		}
	}
	for _, hash := range []string{q.Hash, q.Found.SHA256} {
		if raw, err := hex.DecodeString(hash); hash != "" && (err != nil || len(raw) != 32) {
			return wrong("a hash is no SHA-256")
		}
	}
	for _, p := range []string{q.Path, q.Copy.Remote, q.Found.Path} {
		if p != "" && (len(p) > mostPath || p != path.Clean(p) || strings.HasPrefix(p, "/") || strings.HasPrefix(p, "..") ||
			strings.ContainsRune(p, 0)) {
			return wrong("a path is none of a file at a place")
		}
	}
	for _, word := range append([]string{q.Look, q.Claim, q.Boot, string(q.Copy.Shelf), string(q.Copy.Kind)}, q.Ended...) {
		if len(word) > mostWord || !utf8.ValidString(word) {
			return wrong("a word is longer than one may be")
		}
	}
	if len(q.Says) > mostSaid || len(q.Todo) > mostSaid || len(q.Ended) > mostEnds || len(q.Rooms) > mostRooms {
		return wrong("it says more than it may")
	}
	for _, r := range q.Rooms {
		if !plan.IsName(r.Destination) {
			return wrong("a destination cannot be called so")
		}
		for _, n := range []int64{r.Underway, r.Wants, r.Landed} {
			if n < 0 || n > mostBytes {
				return wrong(fmt.Sprintf("a number of bytes cannot be %d", n))
			}
		}
	}
	missing := map[string]bool{
		"holder": q.Hash == "", "lost": q.Path == "", "name": q.Path == "" || q.Claim == "",
		"turn": q.Claim == "", "taken": q.Copy.Remote == "", "hashed": q.Found.Path == "",
	}
	switch to := q.about(what); {
	case missing[what]:
		return wrong("it does not say what it is about")
	case to != "" && !plan.IsName(to):
		return wrong("a destination cannot be called so")
	}
	return nil
}

// check tells what is wrong with a batch; the error is records.Wrong.
func (b Batch) check() error {
	for _, word := range []string{b.ID, b.After, b.Epoch, b.Boot, b.Plan, b.Version} {
		if len(word) > mostWord || !utf8.ValidString(word) {
			return records.Wrong{Says: "a mark is longer than one may be"}
		}
	}
	if b.Count < 0 || b.ID != "" && b.Epoch == "" || b.Boot == "" {
		return records.Wrong{Says: "it does not say which batch it is"}
	}
	if err := sound(reflect.ValueOf(b.Time), 0); err != nil {
		return err
	}
	if b.Known != nil {
		if err := sound(reflect.ValueOf(*b.Known), 0); err != nil {
			return err
		}
		if _, err := json.Marshal(b.Known); err != nil {
			return records.Wrong{Says: "what it knows cannot be kept"}
		}
	}
	return records.CheckTold(b.Rows)
}

// check tells what is wrong with an answer to an order; the error is records.Wrong.
func (a Answer) check() error {
	if a.ID < 0 || len(a.Says) > mostSaid || len(a.Kind) > mostWord || len(a.Is) > mostAnswer || len(a.Is) > 0 &&
		!json.Valid(a.Is) {
		return records.Wrong{Says: "this is no answer"}
	}
	return nil
}

// Check tells what is wrong with a call that waits; the error is records.Wrong.
func (w Wait) Check() error {
	if w.Done < 0 || len(w.Plan) > mostWord || len(w.Boot) > mostWord || len(w.Claims) > mostEnds {
		return records.Wrong{Says: "this is not how a device waits"}
	}
	for _, id := range w.Claims {
		if len(id) > mostWord {
			return records.Wrong{Says: "a claim is longer than one may be"}
		}
	}
	return nil
}

// Sound tells what is wrong with a value that a device told, of whatever type: times, numbers
// and texts that no page could show. The error is records.Wrong.
func Sound(v any) error { return sound(reflect.ValueOf(v), 0) }

// mostDeep is how deep what is told may be nested.
const mostDeep = 16

func sound(v reflect.Value, deep int) error {
	if deep > mostDeep {
		return records.Wrong{Says: "it is nested too deep"}
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			return sound(v.Elem(), deep+1)
		}
	case reflect.Struct:
		if at, is := v.Interface().(time.Time); is {
			if _, offset := at.Zone(); at.Year() < 1 || at.Year() > 9999 || offset <= -24*3600 || offset >= 24*3600 {
				return records.Wrong{Says: "a time is of no year from 1 to 9999"}
			}
			return nil
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() && v.Type().Field(i).Tag.Get("json") != "-" {
				if err := sound(v.Field(i), deep+1); err != nil {
					return err
				}
			}
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return nil // bytes, bounded with the message
		}
		if v.Len() > mostLists {
			return records.Wrong{Says: "a list is longer than one may be"}
		}
		for i := range v.Len() {
			if err := sound(v.Index(i), deep+1); err != nil {
				return err
			}
		}
	case reflect.Map:
		if v.Len() > mostLists {
			return records.Wrong{Says: "a list is longer than one may be"}
		}
		for _, key := range v.MapKeys() {
			if err := sound(key, deep+1); err != nil {
				return err
			}
			if err := sound(v.MapIndex(key), deep+1); err != nil {
				return err
			}
		}
	case reflect.String:
		if s := v.String(); len(s) > mostPath || !utf8.ValidString(s) {
			return records.Wrong{Says: "a text is longer than one may be, or is not written in UTF-8"}
		}
	case reflect.Int64, reflect.Int, reflect.Int32:
		if n := v.Int(); n < -(1<<60) || n > 1<<60 {
			return records.Wrong{Says: fmt.Sprintf("a number cannot be %d", n)}
		}
	case reflect.Float64, reflect.Float32:
		if f := v.Float(); math.IsNaN(f) || math.IsInf(f, 0) {
			return records.Wrong{Says: "a number is none"}
		}
	}
	return nil
}
