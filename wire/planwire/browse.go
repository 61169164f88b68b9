package planwire

import "yardtide/wire"

// Browsed is what lies in a folder of a device, for who goes from folder to folder.
type Browsed struct {
	Device  string          `json:"device"`
	Folder  string          `json:"folder" doc:"As the plan would name it; . for the device's own folder"`
	Path    string          `json:"path" doc:"Where it lies"`
	Up      string          `json:"up" doc:"The folder that it lies in, as the plan would name it; empty where there is none"`
	Source  string          `json:"source" doc:"The source of the plan that it is, or lies in; empty for none"`
	Problem string          `json:"problem" doc:"Why it cannot be read, and what to do; empty when it can"`
	Here    wire.Amount     `json:"here" doc:"Pictures and clips in the folder itself, by their names"`
	Folders []BrowsedFolder `json:"folders" doc:"The folders in it, by name"`
}

// BrowsedFolder is a folder in another.
type BrowsedFolder struct {
	Name        string `json:"name"`
	Folder      string `json:"folder" doc:"As the plan would name it"`
	wire.Amount        // pictures and clips in it and below
	Whole       bool   `json:"whole" doc:"All of it was counted; else there is more"`
	More        bool   `json:"more" doc:"Folders lie in it"`
	Closed      bool   `json:"closed" doc:"It is a closed library"`
	Source      string `json:"source" doc:"The source of the plan that it is, or lies in; empty for none"`
}
