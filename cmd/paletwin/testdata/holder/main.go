// Command holder opens a file as other programs do, and holds it until its input ends:
//
//	holder FILE none|read
//
// none lets nobody else at it, read lets others read.
package main

import (
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/windows"
)

func main() {
	name, err := windows.UTF16PtrFromString(os.Args[1])
	if err != nil {
		panic(err)
	}
	share := map[string]uint32{"none": 0, "read": windows.FILE_SHARE_READ}[os.Args[2]]
	if _, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, share, nil, windows.OPEN_EXISTING, 0, 0); err != nil {
		panic(err)
	}
	fmt.Println("held")
	_, _ = io.Copy(io.Discard, os.Stdin)
}
