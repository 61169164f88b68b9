package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/standin"
	"yardtide/wire"
	"yardtide/wire/findwire"
)

// found asks for items as a person does at the terminal.
func (s *service) found(args ...string) (list []findwire.FoundItem) {
	s.t.Helper()
	require.NoError(s.t, json.Unmarshal([]byte(s.ok(append([]string{"find", "-json", "-n", "0"}, args...)...)), &list))
	return list
}

func names(list []findwire.FoundItem) (names []string) {
	for _, it := range list {
		names = append(names, it.Name)
	}
	return names
}

// What is found is what there is, as it is at that moment: also what comes, gets safe and goes while somebody looks.
func TestEverythingIsFound(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-clips=false")
	s.phone(onWiFi)
	y := s.until("all safe", func(y wire.Yard) bool {
		return settled(y) && total(y, queue.Waiting, queue.Preparing, queue.Sending, queue.Proving) == 0
	})
	all := s.found()
	n := int64(0)
	for _, d := range y.Devices {
		for _, a := range d.States {
			n += a.N
		}
	}
	assert.Len(t, all, int(n), "as many as the pages count")
	for i := 1; i < len(all); i++ {
		before, this := all[i-1].TakenAt.Format("2006-01-02T15:04:05"), all[i].TakenAt.Format("2006-01-02T15:04:05")
		assert.GreaterOrEqual(t, before, this, "by the clock where it was taken")
	}
	// Each question tells the same as a walk over all of them.
	for _, one := range []struct {
		args []string
		is   func(it findwire.FoundItem) bool
	}{
		{[]string{"-device", "galley-phone"}, func(it findwire.FoundItem) bool { return it.Device == "galley-phone" }},
		{[]string{"-kind", "graphic"}, func(it findwire.FoundItem) bool { return it.Kind == "graphic" }},
		{[]string{"-at", "north-locker"}, func(it findwire.FoundItem) bool { return strings.Contains(fmt.Sprint(it.At), "north-locker") }},
		{[]string{"-folder", "DCIM/Screens"}, func(it findwire.FoundItem) bool { return strings.HasPrefix(it.Path, "DCIM/Screens/") }},
		{[]string{"TIDE-table"}, func(it findwire.FoundItem) bool { return strings.Contains(it.Name, "tide-table") }},
		{[]string{"-from", "2026-06-01", "-to", "2026-06-30"}, func(it findwire.FoundItem) bool { return it.TakenAt.Format("2006-01") == "2026-06" }},
	} {
		var want []string
		for _, it := range all {
			if one.is(it) {
				want = append(want, it.Name)
			}
		}
		assert.NotEmpty(t, want, one.args)
		assert.Equal(t, want, names(s.found(one.args...)), one.args)
	}
	// What comes is found, and told as safe once it is; what goes from its device stays findable.
	content, err := standin.JPEG(77, 300, time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	file := filepath.Join(dir, "chart-table/Restoration/rudder of the Wren.jpg")
	require.NoError(t, os.WriteFile(file, content, 0o644))
	require.Eventually(t, func() bool {
		list := s.found("rudder", "wren")
		return len(list) == 1 && list[0].State == "safe" && len(list[0].At) == 1
	}, time.Minute, 100*time.Millisecond)
	require.NoError(t, os.Remove(file))
	require.Eventually(t, func() bool { return len(s.found("-where", "gone", "rudder")) == 1 }, time.Minute, 100*time.Millisecond)
	assert.Empty(t, s.found("-where", "here", "rudder"))
	assert.Contains(t, s.ok("find", "rudder"), "at north-locker; gone from its device")
	assert.Contains(t, s.ok("find", "-months", "rudder"), "2026-11        1\n1 picture")
	for args, says := range map[string]string{
		"-device nobody":       `There is no device "nobody"; there are `,
		"-person nobody":       `There is nobody called "nobody"; there `,
		"-at nowhere":          `There is no destination "nowhere"`,
		"-from 2026-13-01":     "is no day; write it as 2026-05-31",
		"-kind pictures":       "-kind is one of photo",
		"-rated 9":             "query.rated",
		"-spot 1,2,3":          "a part of a map is south, west, north and east",
		"-spot 91,0,95,1":      "is not within 90 degrees",
		"-where everywhere":    "-where is one of here, gone",
		"-from 2026-05-01T1:2": "is no day",
	} {
		_, errOut, code := s.run(append([]string{"find"}, strings.Fields(args)...)...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errOut, says, args)
	}
}
