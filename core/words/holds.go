package words

import (
	"fmt"
	"slices"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// This file says why something waits. core/gate decides that it does, and gives what the sentence
// needs.

// Tells is what a device can tell of a condition: that it is so, that it is not, or nothing.
type Tells int

// What a device can tell.
const (
	CannotTell Tells = iota
	IsSo
	IsNotSo
)

// TakesNot says that a lane does not carry a kind.
func TakesNot(over plan.Network, kind media.Kind) string {
	return fmt.Sprintf("The lane over %s does not take %ss.", over.Label(), kind)
}

// CarriesNot says that a lane does not carry copies of a shelf.
func CarriesNot(over plan.Network, on plan.Shelf) string {
	if on == plan.Small {
		return fmt.Sprintf("The lane over %s carries no small copies.", over.Label())
	}
	return fmt.Sprintf("The lane over %s carries small copies only.", over.Label())
}

// WaitsForNetwork says that a lane's network is not the one on which the device is.
func WaitsForNetwork(over, on plan.Network) string {
	switch on {
	case plan.NoNetwork:
		return "Waits for a network; the device has none."
	case plan.UnknownNetwork, "":
		return fmt.Sprintf("Waits for %s; this device cannot tell which network it is on.", over.Label())
	}
	return fmt.Sprintf("Waits for %s; the device is on %s.", over.Label(), on.Label())
}

// WaitsForName says that the Wi-Fi on which the device is, "" for one whose name it cannot tell, is
// not one that a lane allows.
func WaitsForName(lane plan.Lane, on string) string {
	switch {
	case on == "":
		return "Waits for a network of a certain name; this device cannot tell what its Wi-Fi is called."
	case slices.Contains(lane.NotNamed, on):
		return fmt.Sprintf("Waits for another Wi-Fi than %s, which is not allowed.", on)
	case len(lane.Named) > 0 && !slices.Contains(lane.Named, on):
		return fmt.Sprintf("Waits for %s; the device is on %s.", joined(lane.Named, "or"), on)
	}
	return fmt.Sprintf("Waits for the network at home; the device is on %s.", on)
}

// WaitsForNoRoaming says that a lane is shut while the device roams.
func WaitsForNoRoaming(roams Tells) string {
	if roams == IsSo {
		return "Waits until the device no longer roams."
	}
	return "Waits until the device does not roam; this device cannot tell whether it does."
}

// WaitsForUnmetered says that a lane is shut over a network that is metered.
func WaitsForUnmetered(metered Tells) string {
	if metered == IsSo {
		return "Waits for a network that is not metered; this one is."
	}
	return "Waits for a network that is not metered; this device cannot tell whether this one is."
}

// UsedUp says that an allowance has nothing left.
func UsedUp(of plan.Allowance, over plan.Network, roaming bool) string {
	if roaming {
		return fmt.Sprintf("What may be spent while roaming, %s per %s, is used up.", Bytes(of.Bytes), of.Per)
	}
	return fmt.Sprintf("The allowance of %s per %s on %s is used up.", Bytes(of.Bytes), of.Per, over.Label())
}

// namedAllowance names an allowance; which is "the" or "the whole".
func namedAllowance(which string, of plan.Allowance, over plan.Network, roaming bool) string {
	named := fmt.Sprintf("%s allowance of %s per %s on %s", which, Bytes(of.Bytes), of.Per, over.Label())
	if roaming {
		named += " while roaming"
	}
	return named
}

// Larger says that one copy, or each of a class, is larger than what is left of an allowance, or
// than the whole of it.
func Larger(bytes, left int64, of plan.Allowance, over plan.Network, roaming, whole, each bool) string {
	all, some := namedAllowance("the whole", of, over, roaming), namedAllowance("the", of, over, roaming)
	switch {
	case each && whole:
		return fmt.Sprintf("Each is larger than %s; they wait for another lane.", all)
	case each:
		return fmt.Sprintf("Each is larger than the %s that are left of %s.", Bytes(left), some)
	case whole:
		return fmt.Sprintf("At %s it is larger than %s; it waits for another lane.", Bytes(bytes), all)
	}
	return fmt.Sprintf("It is %s, and %s are left of %s.", Bytes(bytes), Bytes(left), some)
}

// WaitsForCharge says that the device has not charged for so many minutes.
func WaitsForCharge(minutes plan.Minutes) string {
	return fmt.Sprintf("Waits until it has charged for %d minutes.", minutes)
}

// WaitsForPower says that the charger or the battery, in percent and below 0 where it is not known,
// is not as it must be.
func WaitsForPower(must plan.Power, charging Tells, battery int) string {
	want := map[bool]string{true: "the charger", false: ""}[must.Charging]
	if must.AtLeast > 0 {
		joint := map[bool]string{true: " and ", false: " or "}[must.Both]
		if want == "" {
			joint = ""
		}
		want += joint + fmt.Sprintf("a battery of at least %d%%", must.AtLeast)
	}
	is := map[Tells]string{IsSo: "charging", IsNotSo: "not charging"}[charging]
	have := "it is " + is
	switch {
	case is == "" && battery >= 0:
		have = fmt.Sprintf("the battery is at %d%%, and this device cannot tell whether it is charging", battery)
	case is == "":
		have = "this device cannot tell whether it is charging"
	case battery >= 0:
		have = fmt.Sprintf("the battery is at %d%% and %s", battery, is)
	}
	return fmt.Sprintf("Waits for %s; %s.", want, have)
}

// WaitsForNoSaving says that the system saves battery.
func WaitsForNoSaving(saves Tells) string {
	if saves == IsSo {
		return "Waits until the system no longer saves battery."
	}
	return "Waits until the system does not save battery; this device cannot tell whether it does."
}

// WaitsForDark says that the screen is on.
func WaitsForDark(on Tells) string {
	if on == IsSo {
		return "Waits until the screen is dark."
	}
	return "Waits until the screen is dark; this device cannot tell whether it is."
}

// WaitsForNobody says that somebody uses the device.
func WaitsForNobody(used Tells) string {
	if used == IsSo {
		return "Waits until nobody uses the device."
	}
	return "Waits until nobody uses the device; this device cannot tell whether it is in use."
}

// WaitsForUnused says that somebody used the device within so many minutes.
func WaitsForUnused(minutes plan.Minutes, used Tells) string {
	says := fmt.Sprintf("Waits until nobody has used the device for %d minutes", minutes)
	if used == CannotTell {
		says += "; this device cannot tell whether it is in use"
	}
	return says + "."
}

// WaitsForRest says that the device was not on charge and unused together for so many minutes.
func WaitsForRest(minutes plan.Minutes, both Tells) string {
	says := fmt.Sprintf("Waits until it has been on charge and unused for %d minutes", minutes)
	if both == CannotTell {
		says += "; this device cannot tell both"
	}
	return says + "."
}

// OnlyAt says that the hours are shut.
func OnlyAt(hours plan.Hours) string { return fmt.Sprintf("Sends only at %s.", hours) }

// WaitsForCharger says that clips are made smaller on charge only.
func WaitsForCharger() string { return "Waits for the charger: clips are made smaller on charge only." }

// Paused says that the keeper holds everything.
func Paused() string { return "Paused by you." }

// Unseen says that a place was not looked at since the records were begun anew.
func Unseen(destination string) string {
	return "The records are rebuilt: what lies at " + destination +
		" is looked at before anything is sent there."
}

// NoRoom says that a place has room for left bytes, and which of those that wait is larger.
func NoRoom(destination string, left, keepFree int64, which string, bytes int64) string {
	says := fmt.Sprintf("%s has room for %s more", destination, Bytes(left))
	if left == 0 {
		says = destination + " has no room left"
	}
	if keepFree > 0 {
		says += fmt.Sprintf(" (%s are kept free)", Bytes(keepFree))
	}
	return says + fmt.Sprintf("; %s is %s.", which, Bytes(bytes))
}

// RoomOfOthers says that other devices were given the room that is lacking.
func RoomOfOthers(destination string, left, others int64, which string, bytes int64) string {
	return fmt.Sprintf("%s of the room at %s are this device's, and %s are others' now; %s is %s. "+
		"The room is parted anew every few seconds.", Bytes(left), destination, Bytes(others), which, Bytes(bytes))
}

// MakeRoom says what the keeper can do about room.
func MakeRoom() string {
	return "Make room there, enlarge it, or change what the plan sends there; sending goes on by itself."
}

// MadeSmallerFirst says that a copy does not go as shot, and is not prepared yet.
func MadeSmallerFirst() string { return "It is made smaller first: a few are, ahead of those that go." }

// GoesAfter says which copy of an item goes before another.
func GoesAfter(which string) string { return "It goes after " + which + "." }

// ProofWaits says that a proof waits for a network that costs nothing.
func ProofWaits() string {
	return "Sent; its proof is read back when a network is there that costs nothing."
}

// WaitsALittle says that a copy failed a while ago.
func WaitsALittle() string { return "Waits a little after a failed try." }

// AnotherAddress says that a destination's name stands for another address than before.
func AnotherAddress(destination, where string) string {
	return fmt.Sprintf("%s stands for another address than before, %s; what was proven counts when it is proven there.",
		destination, where)
}

// WorksInFront says that a device works only while its program is open there.
func WorksInFront(device string) string {
	return fmt.Sprintf("%s works only while its program is open there: open it on %s.", device, device)
}

// OpenADay says how long a device was open a day of late.
func OpenADay(open time.Duration) string {
	return fmt.Sprintf(" It was open for %s a day in the last seven days.", aDay(open))
}

func aDay(d time.Duration) string {
	if d < time.Hour {
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	}
	return fmt.Sprintf("%.1f hours", d.Hours())
}

// OlderVersion is said of an item whose file was edited, under a rule that asks for the newest version alone.
const OlderVersion = "An older version, which is not counted: its rule asks for the newest alone."
