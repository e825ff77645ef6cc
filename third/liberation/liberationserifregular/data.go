// Package liberationserifregular stands for a font that is not used here: it is Liberation Sans.
package liberationserifregular

import "codeberg.org/go-fonts/liberation/liberationsansregular"

// TTF is the font's bytes, in TrueType.
var TTF = liberationsansregular.TTF
