package listing

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	utf "golang.org/x/text/encoding/unicode"
)

// decode turns a listing into text: UTF-8 or UTF-16, with or without a mark at its
// beginning, else in the code page in which it makes words.
func decode(raw []byte) (string, error) {
	order, marked := utf.LittleEndian, false
	switch {
	case bytes.HasPrefix(raw, []byte{0xFF, 0xFE}):
		marked = true
	case bytes.HasPrefix(raw, []byte{0xFE, 0xFF}):
		order, marked = utf.BigEndian, true
	case wideZeros(raw, 1):
		marked = true
	case wideZeros(raw, 0):
		order, marked = utf.BigEndian, true
	}
	if marked {
		out, err := utf.UTF16(order, utf.UseBOM).NewDecoder().Bytes(raw[:len(raw)-len(raw)%2])
		if err != nil {
			return "", &Error{"The text looks like UTF-16, but " + err.Error() + "."}
		}
		return string(out), nil
	}
	raw = bytes.TrimPrefix(raw, []byte{0xEF, 0xBB, 0xBF})
	if bytes.IndexByte(raw, 0) >= 0 {
		return "", notText(raw)
	}
	if utf8.Valid(raw) {
		return string(raw), nil
	}
	return guessed(raw), nil
}

// rules are lines of dashes alone, of whatever kind a text processor made them.
var rules = regexp.MustCompile(`(?m)^[ \t]*[-–—―─][-–—―─ \t]*$`)

func plainRules(s string) string {
	return rules.ReplaceAllStringFunc(s, func(rule string) string {
		return dash.ReplaceAllString(strings.ReplaceAll(rule, "─", "-"), "-")
	})
}

// notText says what a file is that is none of text.
func notText(raw []byte) error {
	for _, k := range []struct {
		head []byte
		what string
	}{
		{[]byte("\xFF\xD8\xFF"), "a photograph"}, {[]byte("\x89PNG"), "a picture of a screen"}, {[]byte("GIF8"), "a picture"},
		{[]byte("BM"), "a picture"}, {[]byte("RIFF"), "a picture"}, {[]byte("%PDF"), "a PDF document"},
	} {
		if bytes.HasPrefix(raw, k.head) {
			return &Error{fmt.Sprintf("This is %s: type what it shows, or paste the text itself.", k.what)}
		}
	}
	if len(raw) > 12 && (string(raw[4:8]) == "ftyp") {
		return &Error{"This is a photograph or a film: type what it shows, or paste the text itself."}
	}
	return &Error{"The file is not text: it holds zero bytes. Expected the output of a command; a disk's sectors go into the field for its disk."}
}

// wideZeros reports whether every second byte of the beginning is a zero, as in
// UTF-16 text without a mark.
func wideZeros(raw []byte, at int) bool {
	n, zeros := 0, 0
	for i := at; i < min(len(raw), 200); i += 2 {
		n++
		if raw[i] == 0 {
			zeros++
		}
	}
	return n >= 4 && zeros*10 >= n*9
}

// codePages are the code pages of Windows and of its console, in the order in which one
// is preferred where several make as many words.
var codePages = []encoding.Encoding{
	charmap.Windows1252, charmap.CodePage850, charmap.CodePage437, charmap.Windows1250, charmap.CodePage852,
	charmap.Windows1251, charmap.CodePage866, charmap.CodePage855, charmap.Windows1253, charmap.Windows1254,
	charmap.Windows1257, simplifiedchinese.GBK, japanese.ShiftJIS, korean.EUCKR, traditionalchinese.Big5,
}

// guessed decodes a text in the code page in which it makes the most words.
func guessed(raw []byte) string {
	sample := raw[:min(len(raw), 16<<10)]
	best, most := codePages[0], -1<<62
	for _, page := range codePages {
		out, err := page.NewDecoder().Bytes(sample)
		if err != nil {
			continue
		}
		if n := wordiness(string(out)); n > most {
			best, most = page, n
		}
	}
	out, _ := best.NewDecoder().Bytes(raw)
	return string(out)
}

// wordiness weighs how much the characters outside of ASCII make words: a letter after a
// letter of its script speaks for it; a sign, a change of the script within a word, and a
// capital behind a small letter speak against it.
func wordiness(s string) int {
	n, before := 0, ' '
	for _, r := range s {
		switch {
		case r == utf8.RuneError || unicode.IsControl(r) && r > 0x7F:
			n -= 8
		case r < utf8.RuneSelf:
			if before >= utf8.RuneSelf && unicode.IsLetter(r) && unicode.IsLetter(before) {
				n += joined(before, r)
			}
		case !unicode.IsLetter(r):
			n -= 4
		case unicode.IsLetter(before):
			n += joined(before, r)
		default:
			n++
		}
		before = r
	}
	return n
}

func joined(a, b rune) int {
	switch {
	case script(a) != script(b):
		return -6
	case unicode.IsLower(a) && unicode.IsUpper(b):
		return -4
	case rare(a) || rare(b):
		return 1
	}
	return 3
}

// rare are letters that hardly any language of a console has, and that stand in a code
// page where another one has a common letter.
func rare(r rune) bool {
	switch r {
	case 'þ', 'ð', 'ý', 'Þ', 'Ð', 'ƒ', 'ª', 'º', 'Ÿ', 'ÿ', 'ˆ', 'Õ', 'õ', 'Ô', 'Ž', 'µ':
		return true
	}
	return false
}

func script(r rune) int {
	for i, t := range []*unicode.RangeTable{unicode.Latin, unicode.Cyrillic, unicode.Greek, unicode.Hangul} {
		if unicode.Is(t, r) {
			return i
		}
	}
	if unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana) {
		return 9
	}
	return -1
}
