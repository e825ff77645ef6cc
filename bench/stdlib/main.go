// Command stdlib is the floor of the benchmarks: it reads the files named
// with encoding/csv and ReuseRecord and does nothing else; or, after -zip, unzips an archive and zips it again.
package main

import (
	"archive/zip"
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"log"
	"os"
)

func main() {
	if os.Args[1] == "-zip" {
		if err := again(os.Args[2]); err != nil {
			log.Fatal(err)
		}
		return
	}
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

// again unzips an archive and zips it again.
func again(name string) error {
	z, err := zip.OpenReader(name)
	if err != nil {
		return err
	}
	defer z.Close()
	to := zip.NewWriter(io.Discard)
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return err
		}
		w, err := to.Create(f.Name)
		if err != nil {
			return err
		}
		if _, err := io.Copy(w, r); err != nil {
			return err
		}
	}
	return to.Close()
}
