package build

import "testing"

func TestDecisiveLogLine(t *testing.T) {
	for want, text := range map[string]string{
		"./main.go:7:5: undefined: foo":                                    "# example\n./main.go:7:5: undefined: foo\n./main.go:9:1: missing return\nnote: module requires Go 1.99\n",
		"npm error 404 Not Found - GET https://registry/never - Not found": "npm error code E404\nnpm error 404 Not Found - GET https://registry/never - Not found\nnpm error A complete log of this run can be found in: /tmp/x-debug-0.log\n",
		"ERROR: No matching distribution found for nevermade==1.0":         "Collecting nevermade==1.0\nERROR: No matching distribution found for nevermade==1.0\n[notice] A new release of pip is available\n",
		"src/app.ts:3:1 error TS2304: Cannot find name 'x'.":               "src/app.ts:3:1 error TS2304: Cannot find name 'x'.\n\nFound 1 error.\n",
		"ModuleNotFoundError: No module named 'x'":                         "Traceback (most recent call last):\n  File \"a.py\", line 1, in <module>\n    import x\nModuleNotFoundError: No module named 'x'\n",
		"that is all": "working\nthat is all\n\n",
		"":            "\n\n",
	} {
		if got := errorLine(text); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
