// Package link is a device and its service across a network. The device's end (Agent) tells
// what changed in numbered batches that can be repeated without harm, takes up the plan
// and what the keeper orders, and asks the others before it sends (Others); without the
// service it goes on by what it has. The service's end (Mirror) has the device's records
// as they were told last, and is the device as the service sees it.
package link

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/fxamacker/cbor/v2"

	"yardtide/engine/records"
	"yardtide/engine/tell"
)

// Batch is what changed on a device since the batch before (CBOR, RFC 8949, in gzip).
type Batch struct {
	// ID names the batch, and After the one before: it is taken only after that one. With
	// Begin everything is told anew, and After is empty; Whole tells that with this one
	// everything is told. A batch without an ID has no rows: it tells Known alone.
	ID    string         `cbor:"id,omitempty"`
	After string         `cbor:"after,omitempty"`
	Begin bool           `cbor:"begin,omitempty"`
	Whole bool           `cbor:"whole,omitempty"`
	Epoch string         `cbor:"epoch"` // of the device's records
	Rows  []records.Rows `cbor:"rows,omitempty"`

	Known   *tell.Known `cbor:"known,omitempty"`
	Boot    string      `cbor:"boot"`  // names this run of the device's program
	Count   int64       `cbor:"count"` // grows with each batch of it: what was known earlier may come later
	Time    time.Time   `cbor:"time"`  // the device's clock
	Plan    string      `cbor:"plan"`  // the mark of the plan that it follows
	Version string      `cbor:"version"`
}

// Have is what the service answers to a batch.
type Have struct {
	Time time.Time `json:"time"` // the service's clock
	Last string    `json:"last"` // the batch that was taken last, of what the device is telling now
}

// Wait asks for the plan and for orders. It is answered as soon as there is something.
type Wait struct {
	Plan   string   `json:"plan"`   // the mark of the plan that the device has
	Claims []string `json:"claims"` // that it still needs
	Boot   string   `json:"boot"`   // names this run of the device's program
	Done   int64    `json:"done"`   // the last order that was carried out
}

// News answers it.
type News struct {
	Time   time.Time `json:"time"`
	Plan   *Plan     `json:"plan,omitempty"` // only if it is another
	Orders []Order   `json:"orders,omitempty"`
}

// Plan is a device's part of the plan, and the secrets of its places, sealed to its key
// (age-encryption.org/v1).
type Plan struct {
	Mark    string `json:"mark"`
	Device  string `json:"device,omitempty"` // what the plan calls it, which may be another name than before
	Text    string `json:"text"`             // "" while the plan does not name the device
	Secrets []byte `json:"secrets,omitempty"`
}

// Secret is one of those that are sealed, as JSON.
type Secret struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Server string `json:"server"`
	Secret string `json:"secret"`
}

// Order is what the keeper wants done on a device. Its numbers grow: one that was carried
// out is not carried out again.
type Order struct {
	ID   int64           `json:"id"`
	Do   string          `json:"do"`
	With json.RawMessage `json:"with,omitempty"`
	Asks bool            `json:"asks,omitempty"` // somebody waits for the answer
}

// Answer is what came of an order.
type Answer struct {
	ID   int64           `json:"id"`
	Is   json.RawMessage `json:"is,omitempty"`
	Says string          `json:"says,omitempty"` // why it was refused
	Kind string          `json:"kind,omitempty"` // which of the errors that a caller decides on
}

// Join asks to be let in.
type Join struct {
	Secret    []byte `json:"secret"`
	Token     []byte `json:"token"`     // that the device will show: it may ask again with the same
	Recipient string `json:"recipient"` // its age key
	Version   string `json:"version"`
}

// Joined answers it.
type Joined struct {
	Time   time.Time `json:"time"`
	Device string    `json:"device"` // what the plan calls it
	Yard   string    `json:"yard"`
}

// Refusal is an answer that refuses (RFC 9457).
type Refusal struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

func (e *Refusal) Error() string { return e.Detail }

// mostTold bounds a batch, in bytes before it is packed, and mostPacked after.
const (
	mostTold   = 24 << 20
	mostPacked = 6 << 20
)

var decoding = func() cbor.DecMode {
	m, err := cbor.DecOptions{MaxNestedLevels: 12, MaxArrayElements: 1 << 17, MaxMapPairs: 1 << 14,
		UTF8: cbor.UTF8RejectInvalid, IntDec: cbor.IntDecConvertNone, TimeTag: cbor.DecTagIgnored}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return m
}()

var encoding = func() cbor.EncMode {
	m, err := cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return m
}()

// Pack writes a batch.
func (b Batch) Pack() ([]byte, error) {
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	if err == nil {
		err = encoding.NewEncoder(z).Encode(b)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("packing what changed: %w", err)
	}
	return out.Bytes(), nil
}

// errTooMuch tells that a batch is larger than one may be.
var errTooMuch = errors.New("it is larger than a batch may be")

// Unpack reads a batch. It is bounded before it is read.
func Unpack(packed []byte) (b Batch, err error) {
	if len(packed) > mostPacked {
		return b, errTooMuch
	}
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return b, fmt.Errorf("unpacking what changed: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(z, mostTold+1))
	if err != nil {
		return b, fmt.Errorf("unpacking what changed: %w", err)
	}
	if len(text) > mostTold {
		return b, errTooMuch
	}
	if err := decoding.Unmarshal(text, &b); err != nil {
		return b, fmt.Errorf("reading what changed: %w", err)
	}
	return b, nil
}
