package pack_test

import (
	"bytes"
	"fmt"

	"rudmar/core/pack"
)

func Example() {
	files := []pack.Entry{{Path: "warn.py", Content: []byte("def run(call): return {}\n")}}
	listing, _ := pack.List(files)
	var archive bytes.Buffer
	_ = pack.Write(&archive, files) // a buffer accepts everything
	back, err := pack.Read(archive.Bytes(), listing.Digest())
	fmt.Println(back[0].Path, listing.Size(), err)
	// Output: warn.py 25 <nil>
}
