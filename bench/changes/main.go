// Command changes reads a change set as every command does, its seal checked,
// and nothing else: the floor for commands that work on one.
package main

import (
	"fmt"
	"log"
	"os"

	"paletwin/core/changeset"
	"paletwin/internal/disk"
)

func main() {
	m, err := disk.OS{}.Map(os.Args[1])
	if err != nil {
		log.Fatal(err)
	}
	defer m.Close()
	r, err := changeset.Parse(m.Data)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(r.Seal.Changes())
}
