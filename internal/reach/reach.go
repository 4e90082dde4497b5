// Package reach says what the service may call: which hosts and, of addresses that are not of the public
// Internet, which networks. An address is looked at when it is dialled, whatever name has led to it.
package reach

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
)

// Rules say what the service may call, and with how many slots. They stand in the file that it is started
// with; nothing of them can be set through the API.
type Rules struct {
	// Allow are hosts, such as api.bank.example, with a port where that is not the scheme's own, or :* for any;
	// *.bank.example for all below a name, and * for all hosts. Addresses of this machine, of private networks
	// and the like are called only where a network is named, such as 127.0.0.1 or 10.0.0.0/8, beside the host.
	Allow []string `json:"allow,omitzero"`
	// Slots is how many calls are made at once, 0 to 1000; nil means 16.
	Slots *int `json:"slots,omitzero"`
}

const (
	defaultSlots = 16
	mostSlots    = 1000
	mostAllowed  = 1000
)

// Check answers what is wrong with the rules.
func (r *Rules) Check() []check.FieldError {
	var c check.List
	if len(r.Allow) > mostAllowed {
		c.Add("allow", "are %d; at most %d are taken", len(r.Allow), mostAllowed)
	}
	for i, entry := range r.Allow {
		if _, is := networkOf(entry); is {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(entry, "*."), ":")
		if entry != "*" && (name == "" || strings.ContainsAny(name, "/*@ ") || strings.Contains(entry, "://")) {
			c.Add(fmt.Sprintf("allow[%d]", i), "%q is not a host or a network; write it as api.bank.example, api.bank.example:8443, *.bank.example, 10.0.0.0/8, or * for all", text.Shorten(entry))
		}
	}
	if r.Slots != nil && (*r.Slots < 0 || *r.Slots > mostSlots) {
		c.Add("slots", "%d is outside 0 to %d", *r.Slots, mostSlots)
	}
	return c
}

// NumSlots is how many calls are made at once.
func (r *Rules) NumSlots() int {
	if r.Slots == nil {
		return defaultSlots
	}
	return *r.Slots
}

// networkOf reads an address or a network.
func networkOf(entry string) (netip.Prefix, bool) {
	if at, err := netip.ParseAddr(entry); err == nil {
		return netip.PrefixFrom(at.Unmap(), at.Unmap().BitLen()), true
	}
	network, err := netip.ParsePrefix(entry)
	return network.Masked(), err == nil
}

// Reach is what may be called. Its methods may be called from any goroutine.
type Reach struct{ of atomic.Pointer[reach] }

type reach struct {
	rules    Rules
	hosts    []string
	networks []netip.Prefix
}

// New gives what may be called by rules.
func New(r Rules) *Reach {
	x := new(Reach)
	x.Set(r)
	return x
}

// Rules are those in force.
func (x *Reach) Rules() Rules { return x.of.Load().rules }

// Set changes what may be called.
func (x *Reach) Set(r Rules) {
	next := &reach{rules: r}
	for _, entry := range r.Allow {
		if network, is := networkOf(entry); is {
			next.networks = append(next.networks, network)
		} else {
			next.hosts = append(next.hosts, strings.ToLower(entry))
		}
	}
	x.of.Store(next)
}

// MayCall says why a host may not be called, by its name with the port where that is not the scheme's own;
// nil where it may. Whether its address may be is seen when it is called.
func (x *Reach) MayCall(host string) error {
	r := x.of.Load()
	name, port := splitPort(host)
	if at, err := netip.ParseAddr(name); err == nil && r.named(at.Unmap()) {
		return nil
	}
	if slices.ContainsFunc(r.hosts, func(entry string) bool { return matches(entry, name, port) }) {
		return nil
	}
	return fmt.Errorf("%s is not a host that the service may call; name it under calls.allow in the file that the service is started with", host)
}

// Name is a host without its port.
func Name(host string) string {
	name, _ := splitPort(host)
	return name
}

// splitPort parts a host, which may be an address in brackets, from its port; empty for none.
func splitPort(host string) (name, port string) {
	if rest, is := strings.CutPrefix(host, "["); is {
		name, port, _ = strings.Cut(rest, "]")
		return name, strings.TrimPrefix(port, ":")
	}
	name, port, _ = strings.Cut(host, ":")
	return name, port
}

func matches(entry, name, port string) bool {
	if entry == "*" {
		return true
	}
	wanted, ports, has := strings.Cut(entry, ":")
	if (has || port != "") && ports != "*" && ports != port {
		return false
	}
	if below, is := strings.CutPrefix(wanted, "*."); is {
		return strings.HasSuffix(name, "."+below)
	}
	return wanted == name
}

// named tells whether an address is in a network that is named.
func (r *reach) named(at netip.Addr) bool {
	return slices.ContainsFunc(r.networks, func(n netip.Prefix) bool { return n.Contains(at) })
}

// AddressError is that of an address that may not be called.
type AddressError struct{ at netip.Addr }

func (e *AddressError) Error() string {
	return fmt.Sprintf("%s is an address of this machine, of a private network or the like; name it, or its network, under calls.allow if it is meant", e.at)
}

// Control refuses an address when it is dialled, as net.Dialer has it.
func (x *Reach) Control(_, address string, _ syscall.RawConn) error {
	end, err := netip.ParseAddrPort(address)
	if err != nil {
		return fmt.Errorf("%s is not an address: %w", address, err)
	}
	at := end.Addr().Unmap().WithZone("")
	if special(at) && !x.of.Load().named(at) {
		return &AddressError{at}
	}
	return nil
}

// within are networks beside those that package netip knows, whose addresses are not of the public Internet
// (RFC 6890), or stand for others.
var within = func() (all []netip.Prefix) {
	for _, s := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4", "::/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "fec0::/10"} {
		all = append(all, netip.MustParsePrefix(s))
	}
	return all
}()

// special tells whether an address is not one of the public Internet.
func special(at netip.Addr) bool {
	return !at.IsGlobalUnicast() || at.IsPrivate() || at.IsLoopback() || at.IsLinkLocalUnicast() ||
		slices.ContainsFunc(within, func(n netip.Prefix) bool { return n.Contains(at) })
}
