package output

import (
	"strings"

	"github.com/boombuler/barcode/qr"
)

// QRCode returns an address as a QR code of half blocks, dark on light; empty: it is
// too long for one.
func QRCode(address string) string {
	code, err := qr.Encode(address, qr.L, qr.Auto)
	if err != nil {
		return ""
	}
	const quiet = 2 // light cells around the code
	size := code.Bounds().Dx()
	dark := func(x, y int) bool {
		if x < 0 || y < 0 || x >= size || y >= size {
			return false
		}
		r, _, _, _ := code.At(x, y).RGBA()
		return r == 0
	}
	var b strings.Builder
	for y := -quiet; y < size+quiet; y += 2 {
		b.WriteString("\x1b[30;47m")
		for x := -quiet; x < size+quiet; x++ {
			switch top, bottom := dark(x, y), dark(x, y+1); {
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
		b.WriteString("\x1b[0m\n")
	}
	return b.String()
}
