// Package allowance knows how many metered bytes a lane may still spend.
//
// These always hold:
//   - bytes are reserved before the first one leaves and settled after the last;
//   - spent and reserved bytes together never grow past the limit by Reserve;
//   - a reservation that was not settled (a crash) counts as spent in full.
//
// The package keeps nothing: engine/records stores accounts and reservations.
package allowance

import (
	"time"

	"yardtide/core/plan"
)

// Account is what one lane of one device spent in one period, in bytes.
type Account struct {
	Spent    int64
	Reserved int64
}

// Left is what may still be reserved, never below zero.
func Left(limit plan.Allowance, a Account) int64 {
	return max(0, limit.Bytes-a.Spent-a.Reserved)
}

// Reserve sets n bytes aside; ok is false, and the account unchanged, when
// they do not fit.
func Reserve(limit plan.Allowance, a Account, n int64) (after Account, ok bool) {
	if n < 0 || n > Left(limit, a) {
		return a, false
	}
	a.Reserved += n
	return a, true
}

// Settle ends a reservation of n bytes of which actual left the device. Bytes
// beyond the reservation are counted too: they were spent.
func Settle(a Account, n, actual int64) Account {
	a.Reserved = max(0, a.Reserved-n)
	a.Spent += max(0, actual)
	return a
}

// Cost is how many bytes to reserve for sending one file: its size, what
// requests and their answers carry around it, and 2% for framing and
// retransmission below HTTP.
func Cost(size int64) int64 { return size + size/50 + Overhead }

// Carries is the size of the largest file whose Cost fits into what is left, in
// bytes (to within one).
func Carries(left int64) int64 { return (left - Overhead) * 50 / 51 }

// Overhead is what one send costs beside its body: four requests with headers.
const Overhead = 8 << 10

// Period is the span that now lies in, from its first instant to the first of
// the next, in the zone's calendar: days are 23 to 25 hours long when clocks
// change, weeks begin on Monday, months on the day that the period names.
func Period(per plan.Period, now time.Time, zone *time.Location) (start, end time.Time) {
	now = now.In(zone)
	y, m, d := now.Date()
	switch first := per.First(); {
	case per == plan.Week:
		d -= (int(now.Weekday()) + 6) % 7
		return midnight(y, m, d, zone), midnight(y, m, d+7, zone)
	case first > 0:
		if d < first { // it began in the month before
			m--
		}
		return midnight(y, m, first, zone), midnight(y, m+1, first, zone)
	}
	return midnight(y, m, d, zone), midnight(y, m, d+1, zone)
}

// midnight is the first instant of a day. Where clocks skip midnight, Date
// may land on the day before: the day then begins at the change.
func midnight(y int, m time.Month, d int, zone *time.Location) time.Time {
	t := time.Date(y, m, d, 0, 0, 0, 0, zone)
	if noon := time.Date(y, m, d, 12, 0, 0, 0, zone); t.Day() != noon.Day() {
		_, t = t.ZoneBounds()
	}
	return t
}
