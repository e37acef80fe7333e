// Package catalogue lists the emulators.
package catalogue

import (
	"neighbour/internal/emulator"
	"neighbour/internal/emulator/documents"
	"neighbour/internal/emulator/functions"
	"neighbour/internal/emulator/identity"
	"neighbour/internal/emulator/mail"
	"neighbour/internal/emulator/objects"
	"neighbour/internal/emulator/static"
	"neighbour/internal/emulator/stub"
)

// All are the emulators.
var All = []emulator.Emulator{documents.Emulator, functions.Emulator, identity.Emulator, mail.Emulator, objects.Emulator, static.Emulator, stub.Emulator}
