module codeberg.org/go-fonts/liberation

go 1.26
