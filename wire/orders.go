package wire

import (
	"time"

	"yardtide/core/plan"
)

// Pick names items of one device.
type Pick struct {
	Device string   `json:"device"`
	Items  []string `json:"items" minItems:"1" maxItems:"1000" doc:"Their keys"`
}

// SendNowOrder sends items whatever their gates say.
type SendNowOrder struct {
	Pick
	Metered bool `json:"metered,omitempty" doc:"It may cost; without it, a call that would is refused"`
}

// PauseOrder holds everything.
type PauseOrder struct {
	Device string    `json:"device,omitempty" doc:"All when left out"`
	Until  time.Time `json:"until,omitzero" doc:"Until it is resumed when left out"`
}

// ResumeOrder ends a pause.
type ResumeOrder struct {
	Device string `json:"device,omitempty" doc:"All when left out"`
}

// RetryOrder takes up again what is stuck.
type RetryOrder struct {
	Device string   `json:"device,omitempty" doc:"All when left out"`
	Items  []string `json:"items,omitempty" maxItems:"1000" doc:"Their keys; all stuck ones when left out"`
}

// Cost is what sending some items now would take.
type Cost struct {
	Amount
	Network plan.Network `json:"network"`
	Metered bool         `json:"metered" doc:"The network costs"`
	Spends  int64        `json:"spends" doc:"Metered bytes that it would take at most, 0 over a network that costs nothing"`
	Left    int64        `json:"left" doc:"What is left of the allowances concerned, -1 without one"`
	Says    string       `json:"says"`
}
