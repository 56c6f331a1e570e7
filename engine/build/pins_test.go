package build

import (
	"strings"
	"testing"

	"rudmar/core/pack"
)

func TestUnpinned(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", ""},
		{"# nothing\n\n", ""},
		{"frost==1.2\nsleet[fast] == 0.4 # cold\nhail==2 ; python_version > '3.9'\n", ""},
		{"frost==1.2 \\\n  --hash=sha256:00 \\\n  --hash=sha256:01\nsleet==1", ""},
		{"./wheels/frost-1.2-py3-none-any.whl\n--no-index\n-r more.txt\n", ""},
		{"frost @ https://mirror.invalid/frost-1.2.zip\n", ""},
		{"frost==1.2\nsleet\n", ":2: sleet does not pin a version"},
		{"frost>=1.2\n", ":1: frost does not pin a version"},
		{"frost ~= 1.2", ":1: frost does not pin a version"},
		{"\n# x\nfrost \\\n  >1\n", ":3: frost does not pin a version"},
	} {
		err := unpinned([]pack.Entry{{Path: "main.py", Content: []byte("sleet")},
			{Path: requirementsFile, Content: []byte(c.text)}})
		switch {
		case err == nil && c.want != "":
			t.Errorf("%q is taken", c.text)
		case err != nil && (c.want == "" || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%q: %v", c.text, err)
		}
	}
}
