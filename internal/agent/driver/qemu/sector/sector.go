// Package sector is the smallest guests that there are: boot sectors, in the 16-bit code that every x86 computer starts
// in.
package sector

import "fmt"

// Bytes is the length of a boot sector.
const Bytes = 512

// ProbeStatus is with what QEMU ends when Probe has run (QEMU's hw/misc/debugexit.c: twice the value and one).
const (
	probeValue  = 0x10
	ProbeStatus = probeValue<<1 | 1
)

// Probe writes to the debug port 0xf4, which ends QEMU, and halts.
func Probe() []byte { return boot([]byte{0xb0, probeValue, 0xe6, 0xf4, 0xf4, 0xeb, 0xfd}) }

// Display shows a text on the screen and the first serial port, says there what is typed, and turns the machine off
// when
// its power button is pressed (ACPI 6.4, section 4.8.3; the registers are where QEMU's boards have them).
func Display(text string) ([]byte, error) {
	const most = 400
	if len(text) > most {
		return nil, fmt.Errorf("the text has %d bytes: %d fit", len(text), most)
	}
	code := []byte{
		0xfa, 0x31, 0xc0, 0x8e, 0xd8, 0xbc, 0x00, 0x7c, // cli; ax, ds = 0; sp = 7c00h
		0xbe, 0x48, 0x7c, // si = the text
		0xac, 0x08, 0xc0, 0x74, 0x0d, // next: lodsb; its end?
		0xba, 0xf8, 0x03, 0xee, // out 3f8h, al
		0xb4, 0x0e, 0xbb, 0x07, 0x00, 0xcd, 0x10, 0xeb, 0xee, // int 10h, write; next
		0xba, 0x02, 0x06, 0xb8, 0x00, 0x01, 0xef, // out 602h, 100h: tell of the power button
		0xfb, 0xf4, // wait: sti; hlt
		0xba, 0x00, 0x06, 0xed, 0xf6, 0xc4, 0x01, 0x75, 0x0f, // in 600h: pressed?
		0xba, 0xfd, 0x03, 0xec, 0xa8, 0x01, 0x74, 0xed, // in 3fdh: typed? wait
		0xba, 0xf8, 0x03, 0xec, 0xee, 0xeb, 0xe6, // in 3f8h; out 3f8h; wait
		0xba, 0x04, 0x06, 0xb8, 0x00, 0x20, 0xef, 0xf4, 0xeb, 0xf6, // off: out 604h, 2000h
	}
	return boot(append(append(code, text...), 0)), nil
}

// Writes fills the disk that it starts from, from its second sector on, as fast as firmware writes (INT 13h, function
// 43h).
func Writes() []byte {
	return boot([]byte{
		0x31, 0xc0, 0x8e, 0xd8, 0xbe, 0x1a, 0x7c, // ax, ds = 0; si = the packet
		0xb8, 0x00, 0x43, 0xcd, 0x13, // next: write
		0x72, 0xf9, // again, where it failed
		0x83, 0x44, 0x08, 0x7f, 0x83, 0x54, 0x0a, 0x00, // its place += 127 sectors
		0xeb, 0xef, // next
		0x90, 0x90,
		0x10, 0x00, 0x7f, 0x00, 0x00, 0x7c, 0x00, 0x00, 1, 0, 0, 0, 0, 0, 0, 0, // 127 sectors from 0:7c00h to sector 1
	})
}

// boot makes a boot sector of code.
func boot(code []byte) []byte {
	b := make([]byte, Bytes)
	copy(b, code)
	b[Bytes-2], b[Bytes-1] = 0x55, 0xaa
	return b
}
