// Package loopback knows what never leaves this machine, and so may go unencrypted.
package loopback

import (
	"net/netip"
	"net/url"
)

// Host tells whether a host, without a port, is this machine's own.
func Host(host string) bool {
	addr, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && addr.Unmap().IsLoopback()
}

// InTheClear tells whether what is sent to an address can be read on the way: plain HTTP to another machine.
func InTheClear(address string) bool {
	u, err := url.Parse(address)
	return err == nil && u.Scheme == "http" && !Host(u.Hostname())
}
