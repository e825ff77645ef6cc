package term

import (
	"os"

	"golang.org/x/sys/windows"
)

// Console readies files that are windows of the console for colours, and reports whether those can be shown in all of them. What is no
// window stays as it is.
func Console(files ...*os.File) bool {
	all := true
	for _, f := range files {
		var mode uint32
		h := windows.Handle(f.Fd())
		if windows.GetConsoleMode(h, &mode) != nil {
			continue // a file or a pipe
		}
		if mode&windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING == 0 {
			all = windows.SetConsoleMode(h, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil && all
		}
	}
	return all
}
