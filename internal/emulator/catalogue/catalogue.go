// Package catalogue lists the emulators.
package catalogue

import (
	"neighbour/internal/emulator"
	"neighbour/internal/emulator/documents"
	"neighbour/internal/emulator/identity"
	"neighbour/internal/emulator/mail"
	"neighbour/internal/emulator/objects"
	"neighbour/internal/emulator/static"
)

// All are the emulators.
var All = []emulator.Emulator{documents.Emulator, identity.Emulator, mail.Emulator, objects.Emulator, static.Emulator}
