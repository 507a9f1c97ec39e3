package machine

import (
	"fmt"
	"net"
	"strings"
)

// ParseMAC returns a MAC in lower case with colons.
func ParseMAC(text string) (string, error) {
	hw, err := net.ParseMAC(strings.TrimSpace(text))
	if err != nil || len(hw) != 6 {
		if hw, err = net.ParseMAC(pairs(text)); err != nil || len(hw) != 6 {
			return "", fmt.Errorf("%q is not a MAC", text)
		}
	}
	return hw.String(), nil
}

// pairs puts colons into twelve bare digits.
func pairs(text string) string {
	text = strings.TrimSpace(text)
	if len(text) != 12 {
		return text
	}
	return strings.Join([]string{text[:2], text[2:4], text[4:6], text[6:8], text[8:10], text[10:]}, ":")
}

// CheckMAC tells why a NIC can't bear the MAC: IEEE 802-2014, 8.2: the first
// octet's lowest bit marks a group, all zeros is no address.
func CheckMAC(mac string) error {
	hw, err := net.ParseMAC(mac)
	switch {
	case err != nil || len(hw) != 6:
		return fmt.Errorf("%q is not a MAC", mac)
	case hw[0]&1 != 0:
		return fmt.Errorf("%s is a group address", mac)
	case mac == "00:00:00:00:00:00":
		return fmt.Errorf("%s is all zeros", mac)
	}
	return nil
}
