package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
)

func TestADeviceIsChangedAndTheRestStays(t *testing.T) {
	for how, text := range map[string]string{
		"on lines":    around("    sources:\n      - {folder: DCIM, rule: everyday} # first\n"),
		"on one line": around("    sources: [{folder: DCIM, rule: everyday}] # first\n"),
	} {
		none, zone := "", "Europe/Lisbon"
		for _, limit := range []string{"2 MB/s", "1 MB/s at 08:00-22:00; 5 MB/s", "1 MB/s at 08:00-12:00, 13:00-22:00"} {
			with, err := plan.WithDevice(text, "phone", plan.DeviceChange{Limit: &limit, Timezone: &none})
			require.NoError(t, err, how)
			p, err := plan.Parse("p", []byte(with))
			require.NoError(t, err)
			assert.Equal(t, limit, p.Devices["phone"].Limit.String())
			assert.Empty(t, p.Devices["phone"].Timezone)
			assert.Contains(t, with, "# first")
			back, err := plan.WithDevice(with, "phone", plan.DeviceChange{Limit: &none, Timezone: &zone})
			require.NoError(t, err)
			before, err := plan.Parse("p", []byte(text))
			require.NoError(t, err)
			after, err := plan.Parse("p", []byte(back))
			require.NoError(t, err)
			assert.Equal(t, before, after)
		}
	}
	text := around("    sources: [{folder: DCIM, rule: everyday}]\n")
	for says, c := range map[string]plan.DeviceChange{"no time zone": {Timezone: new("Europe/Lisboa")}, "is not a limit": {Limit: new("fast")}, "too slow": {Limit: new("1 kB/s")}} {
		_, err := plan.WithDevice(text, "phone", c)
		assert.ErrorContains(t, err, says)
	}
	_, err := plan.WithDevice(text, "none", plan.DeviceChange{})
	assert.ErrorContains(t, err, `no device "none"`)
}

func TestADeviceThatJoinedGetsItsFirstFolder(t *testing.T) {
	text := "# ours\n" + `format: 2
yard: Slip
timezone: UTC
destinations: {shed: {kind: folder, path: /media/shed}}
devices:
  phone: # Ines's
    sources: [{folder: DCIM, rule: everyday}]
rules:
  everyday: {take: [photo], to: [shed], lanes: [{over: wifi}]}
`
	after, err := plan.WithNewDevice(text, "loft-tablet", plan.Source{Folder: "Pictures", Rules: []string{"everyday"}})
	require.NoError(t, err)
	p, err := plan.Parse("plan", []byte(after))
	require.NoError(t, err)
	assert.Equal(t, "Pictures", p.Devices["loft-tablet"].Sources[0].Folder)
	assert.Contains(t, after, "phone: # Ines's\n", "the rest stays byte for byte")
	for name, says := range map[string]string{"phone": "already", "a b": "cannot be the name", "": "cannot be the name", "x: y": "cannot be the name"} {
		_, err := plan.WithNewDevice(text, name, plan.Source{Folder: "Pictures", Rules: []string{"everyday"}})
		assert.ErrorContains(t, err, says, name)
	}
	_, err = plan.WithNewDevice(text, "loft-tablet", plan.Source{Folder: "Pictures", Rules: []string{"none"}})
	require.Error(t, err, "no such rule")
}

func TestADeviceIsCalledOtherwise(t *testing.T) {
	for _, key := range []string{"phone:", `"phone":`, "'phone' :", "phone: # Ines's, not the phone: of work"} {
		text := strings.Replace(around("    limit: 2 MB/s\n    sources: [{folder: phone, rule: everyday}]\n"), "phone:", key, 1)
		after, err := plan.WithRenamedDevice(text, "phone", "galley.phone-2")
		require.NoError(t, err, key)
		was, err := plan.Parse("p", []byte(text))
		require.NoError(t, err)
		is, err := plan.Parse("p", []byte(after))
		require.NoError(t, err)
		assert.Equal(t, was.Devices["phone"], is.Devices["galley.phone-2"])
		assert.Len(t, is.Devices, len(was.Devices))
		back, err := plan.WithRenamedDevice(after, "galley.phone-2", "phone")
		require.NoError(t, err)
		assert.Equal(t, strings.NewReplacer(`"phone"`, "phone", `'phone'`, "phone").Replace(text), back, "the rest stays byte for byte")
	}
	text := around("    sources: [{folder: DCIM, rule: everyday}]\n")
	for _, to := range []string{"", "a b", "x: y", "a\nb", "phone", "{person}", strings.Repeat("a", 64), "-a", "#"} {
		_, err := plan.WithRenamedDevice(text, "phone", to)
		require.Error(t, err, to)
	}
	for _, to := range []string{"yes", "null", "12", "1e3", "0x1f", "2026-11-26"} { // words that YAML may read otherwise
		after, err := plan.WithRenamedDevice(text, "phone", to)
		require.NoError(t, err, to)
		is, err := plan.Parse("p", []byte(after))
		require.NoError(t, err, to)
		assert.Contains(t, is.Devices, to)
	}
	_, err := plan.WithRenamedDevice(text, "none", "other")
	assert.ErrorContains(t, err, `no device "none"`)
}
