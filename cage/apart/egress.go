package apart

import (
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The network of a command that has a way out: its own address, and the way out.
const Gateway = "10.0.2.2"

func ownAddress() [4]byte { return [4]byte{10, 0, 2, 15} }

// rtentry is struct rtentry of linux/route.h, on machines of 64 bits.
type rtentry struct {
	_                      uint64
	to, gateway, mask      unix.RawSockaddrInet4
	flags                  uint16
	_                      [6]byte
	_, _                   uint64
	metric                 int16
	_                      [6]byte
	device                 uintptr
	mtu, window, roundtrip uint64
}

// egress creates the network of a command: a device whose packets the keeper reads and writes, so nothing of
// the machine's own network is changed or shared. It passes the device over the control socket.
func egress(control *os.File) error {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("network access from a cage needs /dev/net/tun: %w", err)
	}
	defer unix.Close(fd)
	set := func(on int, what uint, value func(*unix.Ifreq) error) error {
		r, err := unix.NewIfreq("out")
		if err == nil {
			err = value(r)
		}
		if err == nil {
			err = unix.IoctlIfreq(on, what, r)
		}
		return err
	}
	flags := func(f uint16) func(*unix.Ifreq) error {
		return func(r *unix.Ifreq) error {
			r.SetUint16(f)
			return nil
		}
	}
	address := func(a [4]byte) func(*unix.Ifreq) error {
		return func(r *unix.Ifreq) error { return r.SetInet4Addr(a[:]) }
	}
	if err := set(fd, unix.TUNSETIFF, flags(unix.IFF_TUN|unix.IFF_NO_PI)); err != nil {
		return fmt.Errorf("opening network access: %w", err)
	}
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("opening network access: %w", err)
	}
	defer unix.Close(s)
	for _, step := range []struct {
		what  uint
		value func(*unix.Ifreq) error
	}{
		{unix.SIOCSIFADDR, address(ownAddress())}, {unix.SIOCSIFNETMASK, address([4]byte{255, 255, 255, 0})},
		{unix.SIOCSIFFLAGS, flags(unix.IFF_UP | unix.IFF_RUNNING)},
	} {
		if err := set(s, step.what, step.value); err != nil {
			return fmt.Errorf("opening network access: %w", err)
		}
	}
	everywhere := unix.RawSockaddrInet4{Family: unix.AF_INET}
	route := rtentry{to: everywhere, mask: everywhere,
		gateway: unix.RawSockaddrInet4{Family: unix.AF_INET, Addr: [4]byte{10, 0, 2, 2}},
		flags:   unix.RTF_UP | unix.RTF_GATEWAY}
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(s), unix.SIOCADDRT, uintptr(unsafe.Pointer(&route))); e != 0 {
		return fmt.Errorf("opening network access: %w", e)
	}
	if err := unix.Sendmsg(int(control.Fd()), []byte{'t'}, unix.UnixRights(fd), nil, 0); err != nil {
		return fmt.Errorf("passing on network access: %w", err)
	}
	return nil
}
