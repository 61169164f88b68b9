package destinationtest_test

import (
	"testing"

	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
)

// What stands in for a storage in the tests keeps what every storage must.
func TestMemoryKeepsThePromises(t *testing.T) {
	t.Parallel()
	for name, of := range map[string]func(at func() *destinationtest.Disk) destination.Driver{
		"across a network": func(at func() *destinationtest.Disk) destination.Driver {
			return destinationtest.Memory{At: at}
		},
		"as objects": func(at func() *destinationtest.Disk) destination.Driver {
			return destinationtest.Places{Memory: destinationtest.Memory{At: at}}
		},
		"a folder": func(at func() *destinationtest.Disk) destination.Driver {
			return destinationtest.Counts{Memory: destinationtest.Memory{At: at}}
		},
	} {
		t.Run(name, func(t *testing.T) {
			destinationtest.Run(t, func(*testing.T) func() destination.Driver {
				var disk destinationtest.Disk
				return func() destination.Driver { return of(func() *destinationtest.Disk { return &disk }) }
			})
		})
	}
}
