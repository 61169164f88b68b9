package service

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardtide/wire"
	"yardtide/wire/planwire"
)

// What comes to a place in a form of its own is told as shot and as it goes, and fits by what goes.
func TestWhatComesToAPlaceIsToldAsItGoes(t *testing.T) {
	const mb = 1_000_000
	for _, c := range []struct {
		n, then, low, high, room int64
		fits                     bool
		says                     string
	}{
		{0, 0, 0, 0, 5 * mb, true, "Nothing is to come to locker."},
		{2, 9 * mb, 9 * mb, 9 * mb, 10 * mb, true, "2 files are to come to locker, 9.0 MB; it has room for 10 MB."},
		{2, 9 * mb, 9 * mb, 9 * mb, 5 * mb, false,
			"2 files are to come to locker, 9.0 MB; it has room for 5.0 MB: 4.0 MB do not fit."},
		{2, 9 * mb, 0, 9 * mb, 10 * mb, true,
			"2 files are to come to locker, less than 9.0 MB, as they go smaller; it has room for 10 MB."},
		{2, 9 * mb, 2 * mb, 3 * mb, 5 * mb, true,
			"2 files are to come to locker, 9.0 MB as shot, and 2.0 MB to 3.0 MB as they go; it has room for 5.0 MB."},
		{2, 9 * mb, 2 * mb, 6 * mb, 5 * mb, false, "2 files are to come to locker, 9.0 MB as shot, and 2.0 MB to 6.0 MB as " +
			"they go; it has room for 5.0 MB, which may be too little."},
		{2, 9 * mb, 6 * mb, 7 * mb, 5 * mb, false, "2 files are to come to locker, 9.0 MB as shot, and 6.0 MB to 7.0 MB as " +
			"they go; it has room for 5.0 MB: 1.0 MB do not fit."},
		{2, 9 * mb, 2 * mb, 2 * mb, -1, true, "2 files are to come to locker, 9.0 MB as shot, and 2.0 MB as they go; how much " +
			"room it has is not known."},
	} {
		amount := wire.Amount{N: c.n, Bytes: c.then}
		one := triedPlace(planwire.TriedPlace{Name: "locker", Today: amount, Then: amount, Low: c.low, High: c.high,
			Room: c.room})
		assert.Equal(t, c.fits, one.Fits, c.says)
		assert.Equal(t, c.says, one.Says)
	}
}
