package cage

import (
	"fmt"
	"math/rand/v2"
	"net"
)

// acquireUser takes a user that nobody on this machine runs commands as, and keeps
// it until it is released: a name in the system's list of abstract sockets is
// held by one process at a time, and given back when that ends, however it ends.
func acquireUser() (user int, release func(), err error) {
	begin := rand.IntN(userCount)
	for i := range userCount {
		user := firstUser + (begin+i)%userCount
		held, err := net.ListenUnix("unix", &net.UnixAddr{Name: fmt.Sprintf("@rudmar-user-%d", user), Net: "unix"})
		if err == nil {
			return user, func() { held.Close() }, nil
		}
	}
	return 0, nil, fmt.Errorf("all users from %d to %d are in use", firstUser, firstUser+userCount-1)
}
