package enrol

import "errors"

// What a message may consist of: the parser of what others wrote goes over the contents of an element once for each that it is in, so that
// 64 KB of nothing but beginnings took it 1.7 s. What devices send has some sixty elements, twelve deep.
const (
	mostElements = 2000
	deepest      = 32
)

var errElements = errors.New("it is no CMS message, or has more elements than devices send")

// measure walks over the elements of a message, in BER (X.690 §8.1), and tells whether there are more than are taken apart. It reads as far
// as it can: what is no BER is left to the parser.
func measure(b []byte) error {
	var ends []int // of the elements around, by where they end; -1: with two zeros
	elements := 0
	for at := 0; at < len(b); {
		for len(ends) > 0 && ends[len(ends)-1] >= 0 && at >= ends[len(ends)-1] {
			ends = ends[:len(ends)-1]
		}
		if elements++; elements > mostElements {
			return errElements
		}
		constructed := b[at]&0x20 != 0
		if at++; b[at-1]&0x1f == 0x1f { // a tag of several octets
			for at < len(b) && b[at]&0x80 != 0 {
				at++
			}
			at++
		}
		if at >= len(b) {
			return nil
		}
		n, size := int(b[at]), 0
		at++
		switch {
		case n == 0x80:
			if len(ends) >= deepest {
				return errElements
			}
			ends = append(ends, -1)
			continue
		case n > 0x80:
			if n &= 0x7f; n > 4 || at+n > len(b) {
				return errElements
			}
			for range n {
				size = size<<8 | int(b[at])
				at++
			}
		default:
			size = n
		}
		end := at + size
		switch {
		case constructed:
			if len(ends) >= deepest {
				return errElements
			}
			ends = append(ends, min(end, len(b)))
		case size == 0 && len(ends) > 0 && ends[len(ends)-1] == -1: // the end of one without a length
			ends = ends[:len(ends)-1]
		default:
			at = end
		}
		if at < 0 {
			return errElements
		}
	}
	return nil
}
