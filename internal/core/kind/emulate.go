package kind

import "strconv"

// EmulatorCommand is the hidden command of this program that runs an emulator.
const EmulatorCommand = "emulate"

// Emulate returns the command line that runs an emulator of this program for
// an instance, on the instance's port.
func Emulate(in *Instance, name string, options ...string) []string {
	return append([]string{in.Self, EmulatorCommand, name, "--listen", "127.0.0.1:" + strconv.Itoa(in.Port)}, options...)
}
