//go:build !unix

package main

import "github.com/rogpeppe/go-internal/testscript"

// accounts reports whether stories may work as several accounts.
func accounts() (bool, error) { return false, nil }

func as(ts *testscript.TestScript, _ bool, _ []string) { ts.Fatalf("there are no accounts to work as") }
