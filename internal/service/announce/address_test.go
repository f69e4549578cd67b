package announce

import (
	"net/netip"
	"testing"
)

// Addresses are judged here, and none is connected to.
func TestSpecialAddressesAreNotPublic(t *testing.T) {
	for _, text := range []string{
		"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "0.0.0.0", "0.1.2.3", "100.64.0.1", "192.0.0.8",
		"192.0.2.1", "198.18.0.1", "198.51.100.1", "203.0.113.1", "224.0.0.1", "240.0.0.1", "255.255.255.255",
		"::", "::1", "::ffff:10.0.0.1", "::ffff:169.254.169.254", "::10.0.0.1", "64:ff9b::a00:1", "64:ff9b:1::1", "2002:a00:1::", "2001::1",
		"2001:db8::1", "100::1", "fc00::1", "fe80::1", "fec0::1", "ff02::1",
	} {
		if isPublic(netip.MustParseAddr(text)) {
			t.Errorf("%s is taken for public", text)
		}
	}
	for _, text := range []string{"93.184.216.34", "192.1.0.1", "198.20.0.1", "2a00:1450::1", "::ffff:93.184.216.34"} {
		if !isPublic(netip.MustParseAddr(text)) {
			t.Errorf("%s is taken for private", text)
		}
	}
}
