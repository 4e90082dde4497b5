package server

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// Forwarders are the proxies whose word is taken for who asks, and by what name: they are known by
// their addresses.
type Forwarders struct {
	Networks []netip.Prefix
	// Unix tells that whoever reaches the service by its socket is one.
	Unix bool
}

// trusts tells whether a request comes from one of them.
func (f Forwarders) trusts(address string) bool {
	at, known := addressOf(address)
	if !known {
		return f.Unix
	}
	return slices.ContainsFunc(f.Networks, func(p netip.Prefix) bool { return p.Contains(at) })
}

// addressOf is the address of a peer; none where it comes by a socket of this machine.
func addressOf(remote string) (netip.Addr, bool) {
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		host = remote
	}
	at, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return at.Unmap(), err == nil
}

// origin is who asks, and how: by the connection or, where that is a forwarder's, by its word.
type origin struct {
	// from is the address, host the name that was asked for, and secure tells of TLS.
	from, host string
	secure     bool
}

// originOf reads X-Forwarded-For, -Host and -Proto of forwarders; of all others they are ignored,
// since anybody can send them. Of several addresses it takes the last one that no forwarder has.
func (f Forwarders) originOf(r *http.Request) origin {
	a := origin{from: r.RemoteAddr, host: r.Host, secure: r.TLS != nil}
	if at, known := addressOf(r.RemoteAddr); known {
		a.from = at.String()
	}
	if !f.trusts(r.RemoteAddr) {
		return a
	}
	for _, hop := range slices.Backward(hops(r.Header.Values("X-Forwarded-For"))) {
		at, known := addressOf(hop)
		if !known {
			break // it is not known who was before
		}
		if a.from = at.String(); !f.trusts(a.from) {
			break
		}
	}
	if host := last(r.Header.Values("X-Forwarded-Host")); host != "" {
		a.host = host
	}
	if proto := last(r.Header.Values("X-Forwarded-Proto")); proto != "" {
		a.secure = strings.EqualFold(proto, "https")
	}
	return a
}

func hops(values []string) (all []string) {
	for _, v := range values {
		for hop := range strings.SplitSeq(v, ",") {
			all = append(all, strings.TrimSpace(hop))
		}
	}
	return all
}

// last is what the nearest forwarder says.
func last(values []string) string {
	all := hops(values)
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1]
}
