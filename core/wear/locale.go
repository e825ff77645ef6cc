package wear

import "strings"

// Locale is what a program's language and country settings make of text.
type Locale struct {
	Name    string // "en-US"
	decimal byte
	group   string
	order   string // of day, month and year in numeric dates: "mdy", "dmy"
	seps    string // what may stand between them
	sep     string // what is written between them
	half    bool   // times are written with AM and PM
	yes, no string // the words for true and false
	money   string // its currency sign
	after   bool   // which stands behind the number
	months  [12]string
}

// Locales are those that are known.
var Locales = []*Locale{
	{Name: "en-US", decimal: '.', group: ",", order: "mdy", seps: "/", sep: "/", half: true, yes: "TRUE", no: "FALSE", money: "$", months: english},
	{Name: "en-GB", decimal: '.', group: ",", order: "dmy", seps: "/", sep: "/", yes: "TRUE", no: "FALSE", money: "£", months: english},
	{Name: "de-DE", decimal: ',', group: ".", order: "dmy", seps: ".", sep: ".", yes: "WAHR", no: "FALSCH", money: "€", after: true, months: german},
	{Name: "fr-FR", decimal: ',', group: "\u202f", order: "dmy", seps: "/-.", sep: "/", yes: "VRAI", no: "FAUX", money: "€", after: true, months: french},
}

var (
	english = [12]string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}
	german  = [12]string{"jan", "feb", "mär", "apr", "mai", "jun", "jul", "aug", "sep", "okt", "nov", "dez"}
	french  = [12]string{"janv", "févr", "mars", "avr", "mai", "juin", "juil", "août", "sept", "oct", "nov", "déc"}
)

// FindLocale returns the locale with a name such as de-DE, or nil.
func FindLocale(name string) *Locale {
	for _, l := range Locales {
		if strings.EqualFold(l.Name, name) {
			return l
		}
	}
	return nil
}

// month returns the number of a month by its English name or the locale's, in
// full or short.
func (l *Locale) month(word string) int {
	w := strings.ToLower(word)
	for i := range english {
		if w == l.months[i] || len(w) >= 3 && l.months == english && strings.HasPrefix(fullEnglish[i], w) && (len(w) == 3 || w == fullEnglish[i]) {
			return i + 1
		}
	}
	return 0
}

var fullEnglish = [12]string{"january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december"}
