package plantext_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/plan"
	"yardtide/core/plantext"
)

func TestADevicesPartOfAnyPlanIsReadAsItWasMeant(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		whole, err := plantext.Parse("plan", []byte(drawn.Draw(t, "plan")))
		if err != nil {
			t.Skip() // some that are drawn have mistakes
		}
		for device := range whole.Devices {
			part := whole.PartOf(device)
			again, err := plantext.Parse("part", []byte(plantext.Write(part)))
			require.NoError(t, err, plantext.Write(part))
			require.Equal(t, part, again)
			require.Len(t, again.Devices, 1)
			for name, r := range again.Rules { // it means the same there
				require.Equal(t, whole.Rules[name], r)
			}
			require.Equal(t, whole.On(device).Rules[firstRule(again, device)], again.On(device).Rules[firstRule(again, device)])
		}
		require.Nil(t, whole.PartOf("a stranger"))
	})
}

func firstRule(p *plan.Plan, device string) string { return p.Devices[device].Sources[0].Rules[0] }

func TestAPartHoldsNoWordOfOthers(t *testing.T) {
	whole, err := plantext.Parse("plan", []byte(`
yard: Slip
timezone: UTC
destinations:
  shed: {kind: sftp, address: "shed:22", host-key: "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", user: ines, password-from: "env:SHED_WORD"}
  loft: {kind: s3, url: "https://loft", bucket: boats, user: u, password-from: "file:/etc/loft"}
devices:
  phone: {limit: "1 MB/s at 08:00-22:00; 5 MB/s", timezone: Atlantic/Azores, sources: [{folder: DCIM, rule: everyday}], rules: {everyday: {gates: {power: any}}}}
  ledger-desk: {sources: [{folder: Letters, rule: letters}]}
rules:
  everyday: {take: [photo], to: [shed], lanes: [{over: wifi, gates: {hours: "22:00-06:00", idle: true}}, {over: cellular, allowance: 45 MB per day, roaming: true}], gates: {power: charging}, store-each: true}
  letters: {take: [document], to: [loft], lanes: [{over: wifi}]}
`))
	require.NoError(t, err)
	text := plantext.Write(whole.PartOf("phone"))
	for _, word := range []string{"loft", "Letters", "ledger-desk", "SHED_WORD", "letters"} {
		require.NotContains(t, text, word)
	}
	again, err := plantext.Parse("part", []byte(text))
	require.NoError(t, err, text)
	require.Equal(t, whole.PartOf("phone"), again)
}
