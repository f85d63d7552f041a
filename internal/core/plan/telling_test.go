package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTelling(t *testing.T) {
	for printed, want := range map[string]string{
		"": "",
		"read 88 lines\nline 88: the level -99.99 is a sensor " +
			"fault": "line 88: the level -99.99 is a sensor fault",
		"x: unrecognized option '--bad'\nTry 'x --help' for more " +
			"information.": "x: unrecognized option '--bad'",
		"x: option requires an argument -- n\nusage: x [-n N] " +
			"file": "x: option requires an argument -- n",
		"reading\nerror: no space\nclosing the " +
			"log\ndone": "error: no space",
		"Traceback (most recent call last):\n  File \"a.py\", line 3, in <module>\n    int('x')\nValueError: " +
			"invalid literal for int() with base 10: " +
			"'x'": "ValueError: invalid literal for int() with base 10: 'x'",
		"cp: cannot stat 'a': No such file or directory\ncp: cannot stat 'b': No such file or " +
			"directory": "cp: cannot stat 'a': No such file or " +
			"directory",
		"Usage: x FILE":                "Usage: x FILE",
		"halfway\n-----\n\n":           "halfway",
		"Run 'x --help' for usage.\n!": "!",
	} {
		require.Equal(t, want, Telling(strings.Split(printed, "\n")), printed)
	}
}
