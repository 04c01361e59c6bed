package probe

import (
	"bytes"
	"encoding/xml"
	"strings"

	"golang.org/x/net/html/charset"
)

// maxXMLDepth is how deep a document may nest, maxXMLTokens how many pieces of it are read.
const (
	maxXMLDepth  = 24
	maxXMLTokens = 20000
)

// eachText shows the text of each innermost element of a document with the local names of all that it lies in. It reads piece by
// piece, so that neither depth nor size of a hostile document cost more than the bounds; what breaks off is read up to there.
func eachText(document []byte, show func(path []string, text string)) {
	decoder := xml.NewDecoder(bytes.NewReader(document))
	decoder.Strict = false
	decoder.CharsetReader = charset.NewReaderLabel
	var path []string
	var text strings.Builder
	for range maxXMLTokens {
		token, err := decoder.RawToken()
		if err != nil {
			return
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(path) == maxXMLDepth {
				return
			}
			path = append(path, t.Name.Local)
			text.Reset()
		case xml.CharData:
			if text.Len() < maxAnswer {
				text.Write(t)
			}
		case xml.EndElement:
			if len(path) == 0 {
				return
			}
			if value := strings.TrimSpace(text.String()); value != "" {
				show(path, value)
			}
			path = path[:len(path)-1]
			text.Reset()
		}
	}
}
