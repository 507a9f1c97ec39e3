// Package disk is the common ground of disk image formats: what an image
// tells of itself, which parts of it hold data, and the pump that moves guest
// bytes from any image to any other.
//
// A format lives in a folder of its own (raw, qcow2, vmdk, vhd, vhdx) and
// imports this package; package formats lists them, tells them apart by content
// and puts layers together; package carry copies whole disks from file to
// file. This package knows no format, no network and no hypervisor.
//
// Offsets and lengths are in bytes of the guest's disk unless a name says
// otherwise. "Data" is what has to be moved; everything else reads as zeros
// or is a parent's affair.
package disk
