package cage

import (
	"fmt"
	"math/rand/v2"
	"net"
)

// acquireUser reserves a user that no other command on this machine runs as, until it is released: one process
// at a time can bind a name in the abstract socket namespace, and the system frees it when the process ends.
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
