// Package run holds the commands that run a service or a device on this machine, and what they do here without
// asking one. It stands above cli, service and engine, and puts them together; nothing but the program's main
// and tests call it.
package run

import "yardtide/cli"

// Here is what the program does on this machine.
func Here() cli.Here {
	return cli.Here{Commands: []cli.Command{serveCommand(), rebuildCommand(), demoCommand()}, Device: device,
		MakePicture: makePicture, Prepare: prepareSystem}
}
