package words

import "fmt"

// CardFigures are those of a memory card, a camera or a phone on a cable.
type CardFigures struct {
	Name, Device, Folder, State, Problem string
	Pictures, Clips, Known, Safe, Unread int64
	Done, Of                             int64
	Uncovered                            bool // no folder of the plan takes up what is copied
}

// Card tells of a volume that came: what is on it, and what is done with it.
func Card(c CardFigures) string {
	on := counted(c.Pictures, "picture", "pictures")
	if c.Clips > 0 {
		on += " and " + counted(c.Clips, "clip", "clips")
	}
	says := fmt.Sprintf("%s, with %s, is in %s", c.Name, on, c.Device)
	all := c.Pictures + c.Clips
	switch {
	case c.State == "away":
		return fmt.Sprintf("%s is away.", c.Name)
	case c.State == "counting":
		return fmt.Sprintf("%s came to %s; it is being looked at.", c.Name, c.Device)
	case all > 0 && c.Known == all:
		says += fmt.Sprintf("; all of them are in %s's folders already", c.Device)
	case c.Known > 0:
		says += fmt.Sprintf("; %s of them are in %s's folders already", Count(c.Known), c.Device)
	}
	if c.Unread > 0 {
		says += fmt.Sprintf("; %s cannot be read", Files(c.Unread))
	}
	switch c.State {
	case "asks":
		return says + "."
	case "left":
		return says + ". It is left alone."
	case "taken":
		return says + ". It is taken up as a folder of the plan."
	case "done":
		return fmt.Sprintf("Everything on %s is in %s's folders, compared byte by byte: you can take it out.%s",
			c.Name, c.Device, c.uncovered())
	}
	if c.Problem != "" {
		return fmt.Sprintf("%s. Copying stopped after %s of %s: %s It is tried again.", says, Count(c.Done), Files(c.Of), c.Problem)
	}
	return fmt.Sprintf("%s. What is new is copied to %s: %s of %s done. Do not take it out yet.%s", says, c.Folder,
		Count(c.Done), Files(c.Of), c.uncovered())
}

// uncovered tells that what is copied goes no further.
func (c CardFigures) uncovered() string {
	if !c.Uncovered {
		return ""
	}
	return fmt.Sprintf(" No folder of the plan takes up %s: what is copied there is sent nowhere.", c.Folder)
}
