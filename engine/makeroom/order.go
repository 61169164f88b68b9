package makeroom

import (
	"errors"
	"time"

	"yardtide/core/room"
)

// Order has items of a device go into the holding place.
type Order struct {
	Items []int64 `json:"items"` // the numbers of their main files
	Terms
}

// Terms are on which terms items go.
type Terms struct {
	Places  int           `json:"places"`
	Held    time.Duration `json:"held"`
	Small   bool          `json:"small,omitempty"`
	Metered bool          `json:"metered,omitempty"` // also over a network that may cost, to prove them
}

// TermsOf are those of what is wanted, over networks that cost nothing.
func TermsOf(w room.Want) Terms { return Terms{Places: w.At(), Held: w.Held(), Small: w.Small} }

// MostOrdered is how many items an order names at most.
const MostOrdered = 500

// Turn is how long an order is worked on before it is told how far it is.
const Turn = 20 * time.Second

// Check sees that an order is one that may be carried out: whoever orders may be elsewhere, or of another version.
func (o Order) Check() error {
	switch {
	case len(o.Items) > MostOrdered:
		return errors.New("too many items are ordered at once")
	case o.Places < 1:
		return errors.New("it is not said at how many places items are to be proven")
	case o.Held < 24*time.Hour:
		return errors.New("what goes lies in the holding place for a day at least")
	}
	return nil
}

// Result is what came of an order. Left are items that were not looked at: ordered again, they are.
type Result struct {
	N     int64    `json:"n"`
	Bytes int64    `json:"bytes"`
	Stays []Stayed `json:"stays,omitempty"`
	Left  []int64  `json:"left,omitempty"`
}

// Stayed is an item that stays on its device, and why.
type Stayed struct {
	Item int64  `json:"item"`
	Says string `json:"says"`
}
