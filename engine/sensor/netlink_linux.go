package sensor

import (
	"errors"
	"net"
	"sync"

	"github.com/jsimonetti/rtnetlink/v2"
	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// routes tells of changes of links, addresses and routes (rtnetlink(7)). Where the system
// forbids that, as Android does, it is silent. The zero value is ready to be opened.
type routes struct {
	signals chan struct{} // nil where nothing tells

	conn *netlink.Conn
	done sync.WaitGroup
}

func (r *routes) open() {
	const groups = unix.RTMGRP_LINK | unix.RTMGRP_IPV4_IFADDR | unix.RTMGRP_IPV6_IFADDR | unix.RTMGRP_IPV4_ROUTE | unix.RTMGRP_IPV6_ROUTE
	conn, err := netlink.Dial(unix.NETLINK_ROUTE, &netlink.Config{Groups: groups})
	if err != nil {
		return
	}
	signals := make(chan struct{}, 1)
	r.conn, r.signals = conn, signals
	r.done.Go(func() {
		for {
			// With ENOBUFS more changed than was read in time: something did.
			if _, err := conn.Receive(); err != nil && !errors.Is(err, unix.ENOBUFS) {
				return // closed
			}
			select {
			case signals <- struct{}{}:
			default:
			}
		}
	})
}

func (r *routes) close() {
	if r.conn != nil {
		_ = r.conn.Close() // nothing was written
		r.done.Wait()
	}
}

// defaultLink is the name of the link by which everything is reached that no other route
// reaches, "" when there is none, or nobody tells.
func defaultLink() string {
	conn, err := rtnetlink.Dial(nil)
	if err != nil {
		return ""
	}
	defer conn.Close()
	all, err := conn.Route.List()
	if err != nil {
		return ""
	}
	best, index := uint32(0), 0
	for _, route := range all {
		if route.DstLength != 0 || route.Table != unix.RT_TABLE_MAIN || route.Type != unix.RTN_UNICAST {
			continue
		}
		link := int(route.Attributes.OutIface)
		if hops := route.Attributes.Multipath; link == 0 && len(hops) > 0 {
			link = int(hops[0].Hop.IfIndex)
		}
		if link != 0 && (index == 0 || route.Attributes.Priority < best) {
			best, index = route.Attributes.Priority, link
		}
	}
	link, err := net.InterfaceByIndex(index)
	if err != nil {
		return ""
	}
	return link.Name
}
