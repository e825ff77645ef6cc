package desk

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// A desk may stand in a folder that a program keeps alike on several machines. This file tells such a folder, and the copies that such
// programs make where two machines wrote at once.

// syncMarks are names by which programs mark the folders that they keep alike: of files in them, and of the folders themselves.
var (
	syncMarks   = []string{".stfolder", ".dropbox", ".dropbox.cache", ".owncloudsync.log", ".nextcloudsync.log", ".tmp.drivedownload", ".tmp.driveupload", ".849C9593-D756-4E56-8D6E-42412F2A707B"}
	syncFolders = regexp.MustCompile(`^(Dropbox( .*)?|OneDrive( - .*)?|Nextcloud|ownCloud|Google Drive|My Drive|GoogleDrive-.*|Mobile Documents|CloudStorage)$`)
)

// syncedFolder is the folder above a desk that is kept alike with others, "" where there is none.
func syncedFolder(dir string) string {
	if to, err := filepath.EvalSymlinks(nearest(dir)); err == nil {
		dir = to
	}
	home, _ := os.UserHomeDir()
	for {
		if syncFolders.MatchString(filepath.Base(dir)) {
			return dir
		}
		for _, mark := range syncMarks {
			// The settings of such a program stand in the home folder under the same name.
			if _, err := os.Lstat(filepath.Join(dir, mark)); err == nil && dir != home {
				return dir
			}
		}
		if dir != home && indexed(dir) {
			return dir
		}
		if filepath.Dir(dir) == dir {
			return ""
		}
		dir = filepath.Dir(dir)
	}
}

// indexed reports whether a folder has the index of a program that keeps it alike with others.
func indexed(dir string) bool {
	entries, _ := os.ReadDir(dir)
	return slices.ContainsFunc(entries, func(e os.DirEntry) bool { return syncIndex.MatchString(e.Name()) })
}

var syncIndex = regexp.MustCompile(`^\._?sync_.*\.db$`)

// conflicted are names that programs give to what another machine wrote at the same time.
var conflicted = regexp.MustCompile(`(?i)conflicted copy|sync-conflict-|_conflict-[0-9]|\(conflict|` + oursWithMore)

// ours are files of a desk or dossier with something behind their names.
var ours = regexp.MustCompile(`(?i)` + oursWithMore)

const oursWithMore = `^(desk|dossier|head|decisions|findings|book|journal|rollback|outcome)([ -].+| ?\([0-9]+\))\.(yaml|json|jsonl|csv)$`

// Conflicted lists files of the desk and of a dossier, which may be nil, that another machine wrote while this one wrote the same.
func (d *Desk) Conflicted(t *Dossier) []string {
	dirs := []string{d.Dir, d.dossiers(), filepath.Join(d.Dir, "layouts")}
	if t != nil {
		dirs = append(dirs, t.Dir)
		runs, _ := d.FS.ReadDir(t.Path("runs")) // there need not be any
		for _, r := range runs {
			dirs = append(dirs, t.Path("runs", r.Name()))
		}
	}
	var found []string
	for _, dir := range dirs {
		entries, _ := d.FS.ReadDir(dir) // what cannot be read is said where it is needed
		for _, e := range entries {
			if dir == d.Dir && ours.MatchString(e.Name()) && !strings.HasPrefix(strings.ToLower(e.Name()), "desk") {
				continue // a person's own: only desk.yaml is the desk's here
			}
			if conflicted.MatchString(e.Name()) && !e.IsDir() {
				found = append(found, filepath.Join(dir, e.Name()))
			}
		}
	}
	slices.Sort(found)
	return found
}
