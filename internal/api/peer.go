package api

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/go-chi/httprate"
)

// address is from where a request comes: the other end of the line, or, when that is a
// proxy which the operator trusts, whom it names. Of the addresses in X-Forwarded-For the
// last one counts that is no such proxy: what stands before it anybody could have written.
func (s *server) address(r *http.Request) (netip.Addr, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("read the peer's address: %w", err)
	}
	at, err := netip.ParseAddr(host)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("read the peer's address: %w", err)
	}
	at = at.Unmap().WithZone("")
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for _, hop := range slices.Backward(hops) {
		if !s.trusted(at) {
			break
		}
		named, err := netip.ParseAddr(strings.TrimSpace(hop))
		if err != nil {
			break // the proxy itself is the last that is known
		}
		at = named.Unmap().WithZone("")
	}
	return at, nil
}

func (s *server) trusted(at netip.Addr) bool {
	return slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(at) })
}

// peer is from where a request comes, as a key: of IPv6 the network, since whoever has one
// has all its addresses.
func (s *server) peer(r *http.Request) (string, error) {
	at, err := s.address(r)
	if err != nil {
		return "", err
	}
	return httprate.CanonicalizeIP(at.String()), nil
}
