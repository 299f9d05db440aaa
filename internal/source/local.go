package source

import (
	"context"
	"fmt"
	"net"
	"strings"
)

// OnThisMachine says whether a host is named as this machine, or as a socket of it. Such an address needs no TLS.
func OnThisMachine(host string) bool {
	return host == "" || strings.HasPrefix(host, "/") || host == "localhost" || net.ParseIP(host) != nil &&
		net.ParseIP(host).IsLoopback()
}

// LocalOnly gives up a connection that leads away from this machine, whatever name it was made by: nothing goes over
// it in clear.
func LocalOnly(dial func(ctx context.Context, network, address string) (net.Conn, error)) func(ctx context.Context,
	network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		if tcp, ok := c.RemoteAddr().(*net.TCPAddr); ok && !tcp.IP.IsLoopback() {
			c.Close()
			return nil, fmt.Errorf("%s is not on this machine, and no TLS was asked for (-tls verify or require)", tcp)
		}
		return c, nil
	}
}
