package sensor

import (
	"context"
	"encoding/json"
	"os"
	"time"

	"yardtide/core/gate"
)

// Written is a sensor whose conditions stand in a file, as JSON: what simulates a device
// writes it. While it cannot be read nothing is known.
type Written struct{ Name string }

// fileBeat is how often the file is looked at.
const fileBeat = 200 * time.Millisecond

// Modem tells whether the device has a modem, as the file says.
func (f Written) Modem() gate.Known {
	var is struct{ Modem gate.Known }
	text, err := os.ReadFile(f.Name)
	if err != nil || json.Unmarshal(text, &is) != nil || is.Modem == "" {
		return gate.Unknown
	}
	return is.Modem.Sound()
}

// Watch implements Sensor.
func (f Written) Watch(ctx context.Context, tell func(gate.Conditions)) error {
	return look(ctx, fileBeat, tell, func(context.Context) gate.Conditions {
		none := gate.Conditions{Battery: -1}
		now := none
		text, err := os.ReadFile(f.Name)
		if err != nil || json.Unmarshal(text, &now) != nil {
			return none
		}
		return now.Sound()
	})
}
