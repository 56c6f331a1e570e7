package local

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"testing"
)

// The memory of processes includes shared memory, if the system does not count it; the memory of one process
// does not.
func TestProcessMemory(t *testing.T) {
	c := exec.Command("/usr/bin/python3", "-c", `
import mmap, sys
own = b'x' * (40 << 20)
shared = mmap.mmap(-1, 20 << 20)
shared.write(b'y' * (20 << 20))
print('ready', flush=True)
sys.stdin.read()
`)
	out, err := c.StdoutPipe()
	must(t, err)
	in, err := c.StdinPipe()
	must(t, err)
	must(t, c.Start())
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		t.Fatal(err)
	}
	pid := c.Process.Pid
	statm, err := os.Open(fmt.Sprintf("/proc/%d/statm", pid))
	must(t, err)
	defer statm.Close()
	own, there := heldByOne(statm)
	all := heldByAll([]int{pid})
	if !there || own < 40<<20 || own > 58<<20 || all < 60<<20 || all > 80<<20 {
		t.Errorf("by itself %d MiB, with what is shared %d MiB", own>>20, all>>20)
	}
	if twice := heldByAll([]int{pid, pid}); twice != 2*all {
		t.Errorf("two hold %d, one %d", twice, all)
	}
	must(t, in.Close())
	must(t, c.Wait())
	if _, there := heldByOne(statm); there || heldByAll([]int{pid}) != 0 {
		t.Error("what is gone holds something")
	}
}
