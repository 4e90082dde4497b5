package reach

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMayCall(t *testing.T) {
	x := New(Rules{Allow: []string{"api.bank.example", "pay.example:8443", "*.harbour.example", "open.example:*", "10.0.0.0/8", "fd00::1"}})
	for host, may := range map[string]bool{
		"api.bank.example": true, "api.bank.example:8443": false, "bank.example": false, "evil-api.bank.example": false, "api.bank.example.evil.test": false,
		"pay.example": false, "pay.example:8443": true, "tide.harbour.example": true, "a.b.harbour.example": true, "harbour.example": false, "tide.harbour.example:81": false,
		"open.example": true, "open.example:22": true, "10.1.2.3": true, "10.1.2.3:9000": true, "11.1.2.3": false, "[fd00::1]:80": true, "[fd00::2]": false, "": false, "127.0.0.1": false,
	} {
		assert.Equal(t, may, x.MayCall(host) == nil, host)
	}
	x.Set(Rules{Allow: []string{"*"}})
	assert.NoError(t, x.MayCall("anything.example:9"))
	x.Set(Rules{})
	assert.ErrorContains(t, x.MayCall("anything.example"), "calls.allow")
}

// Whatever a name leads to, no address of this machine or of a private network is dialled that is not named.
func TestControl(t *testing.T) {
	x := New(Rules{Allow: []string{"*", "10.1.0.0/16"}})
	for _, at := range []string{
		"127.0.0.1", "127.9.9.9", "::1", "0.0.0.0", "::", "169.254.169.254", "fe80::1%eth0", "10.0.0.1", "172.16.0.1", "172.31.255.255", "192.168.1.1", "100.64.0.1", "fd12::1", "224.0.0.1", "ff02::1",
		"255.255.255.255", "240.0.0.1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "64:ff9b::7f00:1", "2002:7f00:1::", "192.0.2.1", "198.18.0.1", "2001:db8::1", "::127.0.0.1", "fec0::1", "192.88.99.1",
	} {
		assert.Error(t, x.Control("tcp", net.JoinHostPort(at, "80"), nil), at)
	}
	for _, at := range []string{"10.1.2.3", "::ffff:10.1.2.3", "93.184.216.34", "2606:2800:220:1::1", "172.32.0.1"} {
		assert.NoError(t, x.Control("tcp", net.JoinHostPort(at, "443"), nil), at)
	}
	assert.Error(t, x.Control("unix", "/run/docker.sock", nil))
}

func TestRules(t *testing.T) {
	few, many := -1, 1001
	for want, r := range map[string]Rules{
		"":         {Allow: []string{"*", "*.example", "a.example:*", "::1", "10.0.0.0/8"}},
		"allow[0]": {Allow: []string{"https://a.example"}},
		"allow[1]": {Allow: []string{"a.example", "a/b"}},
		"allow[2]": {Allow: []string{"a.example", "b.example", "a*b"}},
		"slots":    {Slots: &few},
	} {
		got := ""
		for _, w := range r.Check() {
			got += w.Field
		}
		assert.Equal(t, want, got)
	}
	assert.NotEmpty(t, (&Rules{Slots: &many}).Check())
	assert.Equal(t, 16, (&Rules{}).NumSlots())
}
