package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
)

var shed = plan.Destination{Kind: plan.SFTP, Address: "shed.example:22", HostKey: "SHA256:uNiVztksCsDhcc0u9e8BrrJlSV9OrFmvkHZtEEn2b3c", User: "o'brien \"x\"", KeyFrom: "kept:shed", Layout: plan.DefaultLayout, Senders: 2, KeepFree: 20e9, Size: 1500}

func TestADestinationIsAddedAndTakenOutAndTheRestStays(t *testing.T) {
	before := string(read(t, "good.yaml"))
	with, err := plan.WithDestination(before, "barn", shed)
	require.NoError(t, err)
	p, err := plan.Parse("p", []byte(with))
	require.NoError(t, err)
	assert.Equal(t, shed, p.Destinations["barn"])
	for line := range strings.SplitSeq(before, "\n") {
		assert.Contains(t, with, line, "comments and all")
	}
	again, err := plan.WithoutDestination(with, "barn")
	require.NoError(t, err)
	assert.Equal(t, before, again)

	old, err := plan.Parse("p", []byte(before))
	require.NoError(t, err)
	for name := range old.Destinations {
		rest, err := plan.WithoutDestination(with, name)
		require.NoError(t, err)
		if _, err = plan.Parse("p", []byte(rest)); err != nil {
			assert.ErrorContains(t, err, "there is no destination", "only what the rules still ask for is wrong")
		}
		assert.NotContains(t, rest, "\n  "+name+":")
		assert.Contains(t, rest, "  barn:")
	}
}

func TestWhatCannotBeChangedSaysSo(t *testing.T) {
	for name, c := range map[string]struct{ text, says string }{
		"no YAML":         {"a: [", "not YAML"},
		"nothing":         {"", "no destinations"},
		"on one line":     {"destinations: {a: {kind: folder, path: /a}}\n", "on one line"},
		"it has the name": {"destinations:\n  shed:\n    kind: folder\n    path: /a\n", "already"},
	} {
		_, err := plan.WithDestination(c.text, "shed", shed)
		assert.ErrorContains(t, err, c.says, name)
	}
	_, err := plan.WithoutDestination("destinations:\n  a:\n    kind: folder\n", "shed")
	assert.ErrorContains(t, err, `no destination "shed"`)
}

func TestTheFirstPlanIsAPlan(t *testing.T) {
	p, err := plan.Parse("p", []byte(plan.First("Home: ours", "UTC", "desk", "Pictures/All of it", "shed", shed)))
	require.NoError(t, err)
	assert.Equal(t, shed, p.Destinations["shed"])
	assert.Equal(t, []string{"shed"}, p.Rules["everything"].To)
	assert.NoError(t, plan.CheckDestination("shed", shed))
	bad := shed
	bad.HostKey = ""
	assert.ErrorContains(t, plan.CheckDestination("shed", bad), "has no host-key")
}
