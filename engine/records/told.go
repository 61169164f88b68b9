package records

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"yardtide/core/media"
	"yardtide/core/queue"
)

// This file checks what a device elsewhere tells of its records, whole, before any of it is
// taken in. A mirror is read by the same statements as a device's own records: a value of
// another type or beyond its range would fail every page that shows the device.

// The bounds of what is told. Times are of the years 1 to 9999: no others can be written as
// RFC 3339 has them.
const (
	earliestMS = -62135596800000
	latestMS   = 253402300799999
	mostZone   = 18 * 3600 // seconds from UTC (ISO 8601)
	mostText   = 16 << 10  // bytes
	mostWords  = 256 << 10 // bytes of a list of keywords
	mostFile   = 1 << 50   // bytes of a file, or of a count
	mostSum    = 1 << 56   // bytes of all that a table adds up
)

// limit is what a number of a column may be.
type limit struct{ least, most int64 }

// anyNumber is the limit of numbers that are only compared.
var anyNumber = limit{math.MinInt64, math.MaxInt64}

// numbers are the columns that hold numbers, by table. All others hold text.
var numbers = func() map[string]map[string]limit {
	at, size, id, flag := limit{earliestMS, latestMS}, limit{0, mostFile}, limit{0, math.MaxInt64}, limit{0, 8}
	return map[string]map[string]limit{
		"items": {"id": id, "size": size, "mtime": anyNumber, "inode": anyNumber, "ctime": anyNumber, "taken_at": at,
			"taken_zone": {-mostZone, mostZone}, "found_at": at, "gone_at": at,
			"standing": id, "seconds": size, "marked": flag, "rating": {-16, 256}, "part_of": id, "all_bytes": size,
			"sorted": flag, "older": flag, "placed": flag, "lat": {-90_000_000, 90_000_000}, "lon": {-180_000_000, 180_000_000}},
		"copies": {"id": id, "item": id, "bytes": size, "taken_at": at, "tries": size, "not_before": at, "proven_at": at,
			"changed_at": at, "sent": {0, math.MaxInt64}, "recorded": size, "reprove": flag,
			"landed": flag, "reduced": flag},
		"events":       {"rowid": id, "copy": id, "at": at},
		"standings":    {"id": id, "n": size, "bytes": {0, mostSum}},
		"counters":     {"n": size, "bytes": {0, mostSum}},
		"ledger":       {"at": at, "roaming": flag, "bytes": size},
		"reservations": {"copy": id, "at": at, "roaming": flag, "bytes": size},
		"sensed":       {"id": id, "at": at},
		"runs":         {"id": id, "began": at, "seen": at, "ended": at},
		"cleared": {"id": id, "item": id, "main": id, "size": size, "mtime": anyNumber, "held_at": at, "until": at, "places": {0, 99},
			"small_size": size, "removed_at": at, "back_at": at},
	}
}()

// CheckTold tells what is wrong with rows that a device told; the error is Wrong.
func CheckTold(rows []Rows) error {
	if len(rows) > 8*len(parts) {
		return Wrong{"more tables than there are"}
	}
	for _, told := range rows {
		if err := checkPart(told); err != nil {
			return err
		}
	}
	return nil
}

func checkPart(told Rows) error {
	limits, known := numbers[told.Part]
	if !known {
		return Wrong{fmt.Sprintf("there is no part %s", shown(told.Part))}
	}
	if len(told.Columns) > 64 || len(slices.Compact(slices.Sorted(slices.Values(told.Columns)))) != len(told.Columns) {
		return Wrong{told.Part + " has a column twice, or more columns than there are"}
	}
	for _, span := range told.Spans {
		if span[0] < 0 || span[1] < span[0]-1 {
			return Wrong{fmt.Sprintf("%s has a span from %d to %d", told.Part, span[0], span[1])}
		}
	}
	var sum int64
	for i, row := range told.Rows {
		if len(row) != len(told.Columns) {
			return Wrong{"a row has not as many values as there are columns"}
		}
		for k, v := range row {
			column := told.Columns[k]
			v, err := value(v)
			if err != nil {
				return err
			}
			limit, isNumber := limits[column]
			switch v := v.(type) {
			case int64:
				if !isNumber && isText(told.Part, column) || isNumber && (v < limit.least || v > limit.most) {
					return Wrong{fmt.Sprintf("%s, row %d: %s cannot be %d", told.Part, i, shown(column), v)}
				}
				if column == "bytes" || column == "all_bytes" {
					if sum += v; sum > mostSum || sum < 0 {
						return Wrong{told.Part + " adds up to more than there can be"}
					}
				}
			case string:
				if isNumber {
					return Wrong{fmt.Sprintf("%s, row %d: %s is a number, and not text", told.Part, i, shown(column))}
				}
				if err := checkText(told.Part, column, v); err != nil {
					return err
				}
			case nil:
				return Wrong{fmt.Sprintf("%s, row %d: %s is missing", told.Part, i, shown(column))}
			}
		}
	}
	return nil
}

// texts are the columns that hold text, by table: what a later version tells beside them is
// not taken in, and may be of any type.
var texts = map[string][]string{
	"items": {"source", "dir", "name", "content_type", "kind", "taken_from", "look", "problem", "sha256", "rule",
		"camera", "caption", "keywords", "own_rule", "pair", "keeper"},
	"copies": {"destination", "rule", "kind", "shelf", "state", "ordered", "temp", "remote", "sha256", "proof",
		"says", "todo", "form"},
	"events":       {"state", "says"},
	"standings":    {"kind", "copies"},
	"counters":     {"destination", "rule", "kind", "shelf", "state"},
	"ledger":       {"network", "rule"},
	"reservations": {"network", "rule"},
	"cleared":      {"source", "path", "sha256", "state", "held", "proofs", "small", "small_sum", "says"},
	"sensed":       {"network", "name", "metered", "roaming", "charging", "in_use"},
}

func isText(part, column string) bool { return slices.Contains(texts[part], column) }

// checkText tells what is wrong with a text of a column. Names of files may be of any bytes.
func checkText(part, column, text string) error {
	most := mostText
	if column == "keywords" || part == "standings" {
		most = mostWords
	}
	wrong := func(why string) error { return Wrong{fmt.Sprintf("%s: %s %s", part, shown(column), why)} }
	switch {
	case len(text) > most:
		return wrong("is longer than it may be")
	case strings.ContainsRune(text, 0):
		return wrong("holds a zero byte")
	case !utf8.ValidString(text) && !(part == "items" && slices.Contains([]string{"source", "dir", "name"}, column) ||
		part == "copies" && column == "remote" || part == "cleared" && slices.Contains([]string{"source", "path", "held", "small"}, column)):
		return wrong("is not written in UTF-8")
	case part == "cleared" && column == "state":
		if !slices.Contains(ClearedStates, ClearedState(text)) {
			return wrong("is no state: " + shown(text))
		}
	case part == "cleared" && column == "proofs":
		if _, err := (Cleared{Proofs: text}).ProofList(); err != nil {
			return wrong("is no list of proofs")
		}
	case column == "state" && !slices.Contains(queue.States, queue.State(text)):
		return wrong("is no state: " + shown(text))
	case column == "keeper" && text != "":
		var k media.Keeper
		if json.Unmarshal([]byte(text), &k) != nil || !reflect.DeepEqual(k, k.Sound()) {
			return wrong("is nothing that a keeper says")
		}
	case column == "keywords" && text != "":
		var words []string
		if json.Unmarshal([]byte(text), &words) != nil {
			return wrong("is no list of words")
		}
	case part == "standings" && column == "copies":
		var copies [][]string
		if json.Unmarshal([]byte(text), &copies) != nil || slices.ContainsFunc(copies, func(c []string) bool {
			return len(c) < 3 || len(c) > 5 || !slices.Contains(queue.States, queue.State(c[2]))
		}) {
			return wrong("is no list of copies")
		}
	}
	return nil
}

// shown is a word from outside as it may stand in an error.
func shown(word string) string {
	if len(word) > 40 {
		word = word[:40] + "…"
	}
	return fmt.Sprintf("%q", word)
}
