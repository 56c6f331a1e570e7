package cage

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"apart"
	"rudmar/outside"
)

// Outside reports whether commands with network access can reach an address: it is in none of the networks that count
// as internal.
func Outside(a netip.Addr) bool { return outside.Check(a) == nil }

// Limits of a way out.
const (
	mostConnections = 256
	dialTime        = 20 * time.Second
	idleDatagrams   = time.Minute
	maxDatagram     = 64 << 10
	mtu             = 1500 // bytes of a packet, the system's default for a device
	packets         = 512  // packets queued for a command; more are lost, as on any network
)

// egress is the other end of a command's network: a small network stack in this process, which opens each
// allowed connection again on the machine.
type egress struct {
	// device is read and written as a file of this program only: after it is closed, its descriptor number can
	// belong to another file.
	device *os.File
	stack  *stack.Stack
	reach  func(netip.Addr) bool
	names  *destinations // nil for all
	dial   func(ctx context.Context, network, address string) (net.Conn, error)
	ctx    context.Context
	end    context.CancelFunc
	slots  chan struct{}
}

// openEgress reads the device that a cage hands over, and answers it until closed.
func (p *Process) openEgress(to []string) error {
	if err := p.control.SetReadDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return err
	}
	data, rights := make([]byte, 512), make([]byte, unix.CmsgSpace(4))
	n, held, _, _, err := p.control.ReadMsgUnix(data, rights)
	if err != nil {
		return err
	}
	messages, err := unix.ParseSocketControlMessage(rights[:held])
	if err != nil || len(messages) != 1 {
		return errors.New(strings.TrimSpace(string(data[:n]))) // the error that it reported instead
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 1 {
		return errors.Join(errors.New("no device arrived"), err)
	}
	unix.CloseOnExec(fds[0])
	if err := unix.SetNonblock(fds[0], true); err != nil { // so closing it ends the reader
		unix.Close(fds[0])
		return err
	}
	names, err := newDestinations(to)
	if err != nil {
		unix.Close(fds[0])
		return err
	}
	w := &egress{names: names, device: os.NewFile(uintptr(fds[0]), "device"), reach: p.keeper.config.Reach, dial: p.keeper.config.Dial,
		slots: make(chan struct{}, mostConnections)}
	w.ctx, w.end = context.WithCancel(context.Background())
	if err := w.open(); err != nil {
		w.close()
		return err
	}
	go func() {
		<-p.done
		w.close()
	}()
	return nil
}

func (w *egress) close() {
	w.end()
	w.device.Close()
	w.stack.Close()
}

func (w *egress) open() error {
	w.stack = stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol},
	})
	// Before the device exists, because its packets arrive at once.
	w.stack.SetTransportProtocolHandler(tcp.ProtocolNumber,
		tcp.NewForwarder(w.stack, 0, mostConnections, w.connection).HandlePacket)
	w.stack.SetTransportProtocolHandler(udp.ProtocolNumber, udp.NewForwarder(w.stack, w.datagrams).HandlePacket)
	link := channel.New(packets, mtu, "")
	const nic = 1
	if e := w.stack.CreateNIC(nic, link); e != nil {
		return fmt.Errorf("opening network access: %s", e)
	}
	for _, e := range []tcpip.Error{w.stack.SetPromiscuousMode(nic, true), w.stack.SetSpoofing(nic, true)} {
		if e != nil {
			return fmt.Errorf("opening network access: %s", e)
		}
	}
	w.stack.SetRouteTable([]tcpip.Route{{Destination: header.IPv4EmptySubnet, NIC: nic}})
	go w.sent(link)
	go w.answered(link)
	return nil
}

// sent reads the packets of a command, until its device is closed or its network ends.
func (w *egress) sent(link *channel.Endpoint) {
	var packet [mtu]byte
	for {
		n, err := w.device.Read(packet[:])
		if err != nil {
			return
		}
		if header.IPVersion(packet[:n]) != header.IPv4Version {
			continue // the system itself sends IPv6 router solicitations
		}
		b := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(packet[:n])})
		link.InjectInbound(ipv4.ProtocolNumber, b)
		b.DecRef()
	}
}

// answered writes packets to a command.
func (w *egress) answered(link *channel.Endpoint) {
	for b := link.ReadContext(w.ctx); b != nil; b = link.ReadContext(w.ctx) {
		packet := b.ToView()
		_, _ = w.device.Write(packet.AsSlice()) // the sender retransmits a lost packet
		packet.Release()
		b.DecRef()
	}
	link.Close()
}

func addressOf(a tcpip.Address) netip.Addr {
	ip, _ := netip.AddrFromSlice(a.AsSlice())
	return ip
}

// connection opens an allowed connection for the command.
func (w *egress) connection(r *tcp.ForwarderRequest) {
	to := netip.AddrPortFrom(addressOf(r.ID().LocalAddress), r.ID().LocalPort)
	select {
	case w.slots <- struct{}{}:
	default:
		r.Complete(true)
		return
	}
	go func() {
		defer func() { <-w.slots }()
		if !w.reach(to.Addr()) || !w.names.permits(to) {
			r.Complete(true) // refused, as by a host without a listener
			return
		}
		ctx, cancel := context.WithTimeout(w.ctx, dialTime)
		there, err := w.dial(ctx, "tcp", to.String())
		cancel()
		if err != nil {
			r.Complete(true)
			return
		}
		defer there.Close()
		var queue waiter.Queue
		end, e := r.CreateEndpoint(&queue)
		if e != nil {
			r.Complete(true)
			return
		}
		r.Complete(false)
		join(w.ctx, gonet.NewTCPConn(&queue, end), there)
	}()
}

// join copies data in both directions, until both sides have ended or the context is done.
func join(ctx context.Context, a, b net.Conn) {
	stop := context.AfterFunc(ctx, func() {
		a.Close()
		b.Close()
	})
	defer stop()
	half := func(to, from net.Conn) {
		_, _ = io.Copy(to, from)
		if c, ok := to.(interface{ CloseWrite() error }); ok {
			_ = c.CloseWrite() // it may be closed already
		} else {
			to.Close()
		}
	}
	var both sync.WaitGroup
	both.Go(func() { half(a, b) })
	both.Go(func() { half(b, a) })
	both.Wait()
	a.Close()
	b.Close()
}

// datagrams forwards datagrams: to allowed addresses, and DNS queries to the machine's own resolvers.
func (w *egress) datagrams(r *udp.ForwarderRequest) {
	to := netip.AddrPortFrom(addressOf(r.ID().LocalAddress), r.ID().LocalPort)
	address := to.String()
	switch {
	case to.Addr().String() == apart.Gateway && to.Port() == 53:
		address = nameServer()
	case !w.reach(to.Addr()) || !w.names.permits(to):
		return
	}
	select {
	case w.slots <- struct{}{}:
	default:
		return
	}
	var queue waiter.Queue
	end, e := r.CreateEndpoint(&queue)
	if e != nil {
		<-w.slots
		return
	}
	own := gonet.NewUDPConn(&queue, end)
	go func() {
		defer func() { <-w.slots }()
		defer own.Close()
		if w.names != nil && to.Port() == 53 && to.Addr().String() == apart.Gateway {
			stop := context.AfterFunc(w.ctx, func() { own.Close() })
			defer stop()
			w.lookUp(own, address)
			return
		}
		ctx, cancel := context.WithTimeout(w.ctx, dialTime)
		there, err := w.dial(ctx, "udp", address)
		cancel()
		if err != nil {
			return
		}
		defer there.Close()
		stop := context.AfterFunc(w.ctx, func() { own.Close(); there.Close() })
		defer stop()
		pass := func(to, from net.Conn) {
			buffer := make([]byte, maxDatagram)
			for {
				_ = from.SetReadDeadline(time.Now().Add(idleDatagrams))
				n, err := from.Read(buffer)
				if err != nil {
					break
				}
				if _, err := to.Write(buffer[:n]); err != nil {
					break
				}
			}
			to.Close()
		}
		var both sync.WaitGroup
		both.Go(func() { pass(there, own) })
		both.Go(func() { pass(own, there) })
		both.Wait()
	}()
}

// nameServer is the machine's first server of names.
func nameServer() string {
	text, err := os.Open("/etc/resolv.conf")
	if err == nil {
		defer text.Close()
		for lines := bufio.NewScanner(text); lines.Scan(); {
			if fields := strings.Fields(lines.Text()); len(fields) > 1 && fields[0] == "nameserver" {
				return net.JoinHostPort(fields[1], "53")
			}
		}
	}
	return "127.0.0.1:53"
}
