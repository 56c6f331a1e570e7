package cage

import (
	"fmt"
	"net"
	"os"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// The network of a command that has a way out: its own address, and the way out.
const (
	ownAddress = "10.0.2.15/24"
	gateway    = "10.0.2.2"
)

// wayOut makes the network of a command that has one: a device whose packets
// the keeper reads and writes, so that nothing of the machine's own network is
// changed or shared. The device is handed over by the control socket.
func wayOut(control *os.File) error {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("a way out of the cage needs /dev/net/tun: %w", err)
	}
	defer unix.Close(fd)
	name, err := unix.NewIfreq("out")
	if err != nil {
		return err
	}
	name.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, name); err != nil {
		return fmt.Errorf("making a way out: %w", err)
	}
	link, err := netlink.LinkByName("out")
	if err != nil {
		return fmt.Errorf("making a way out: %w", err)
	}
	address, err := netlink.ParseAddr(ownAddress)
	if err == nil {
		err = netlink.AddrAdd(link, address)
	}
	if err == nil {
		err = netlink.LinkSetUp(link)
	}
	if err == nil {
		err = netlink.RouteAdd(&netlink.Route{LinkIndex: link.Attrs().Index, Gw: net.ParseIP(gateway)})
	}
	if err != nil {
		return fmt.Errorf("making a way out: %w", err)
	}
	if err := unix.Sendmsg(int(control.Fd()), []byte{'t'}, unix.UnixRights(fd), nil, 0); err != nil {
		return fmt.Errorf("handing the way out over: %w", err)
	}
	return nil
}
