package disk

import (
	"fmt"
	"io/fs"
	"strings"
)

// Secret is what a variable of the environment says, or the file that the variable NAME_FILE names; "" is nothing. With own, a
// file that others than its owner may read is refused. A nil env says nothing.
func Secret(fsys FS, env func(string) string, name string, own bool) (string, error) {
	if env == nil {
		return "", nil
	}
	if v := env(name); v != "" {
		return v, nil
	}
	file := env(name + "_FILE")
	if file == "" {
		return "", nil
	}
	if own {
		info, err := fsys.Stat(file)
		if err != nil {
			return "", err
		}
		if OthersCanRead(info) {
			return "", fmt.Errorf("%s can be read by others; make it yours alone: chmod 600 %s: %w", file, file, fs.ErrPermission)
		}
	}
	b, err := ReadFile(fsys, file)
	return strings.TrimRight(string(b), "\r\n"), err
}
