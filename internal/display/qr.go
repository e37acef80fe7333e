package display

import (
	"strings"

	"rsc.io/qr"
)

// quiet is how many light modules there are around a code (ISO/IEC 18004, section 9.1, asks for
// four; two do on a screen, whose own ground is beside them).
const quiet = 2

// QR returns a text as a QR code, in lines that are to be painted in black on white. Each
// character has two modules, one above the other.
func QR(text string) ([]string, error) {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return nil, err
	}
	var out []string
	for y := -quiet; y < code.Size+quiet; y += 2 {
		var b strings.Builder
		for x := -quiet; x < code.Size+quiet; x++ {
			switch top, bottom := code.Black(x, y), code.Black(x, y+1); {
			case top && bottom:
				b.WriteString("█")
			case top:
				b.WriteString("▀")
			case bottom:
				b.WriteString("▄")
			default:
				b.WriteString(" ")
			}
		}
		out = append(out, b.String())
	}
	return out, nil
}
