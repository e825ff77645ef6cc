// Command stdlib is the floor of the benchmarks: it reads the files named
// with encoding/csv and ReuseRecord and does nothing else.
package main

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"log"
	"os"
)

func main() {
	rows := 0
	for _, name := range os.Args[1:] {
		f, err := os.Open(name)
		if err != nil {
			log.Fatal(err)
		}
		r := csv.NewReader(bufio.NewReaderSize(f, 1<<20))
		r.ReuseRecord = true
		for {
			_, err := r.Read()
			if err == io.EOF {
				break
			}
			if err != nil {
				log.Fatal(err)
			}
			rows++
		}
		if err := f.Close(); err != nil {
			log.Fatal(err)
		}
	}
	fmt.Println(rows)
}
