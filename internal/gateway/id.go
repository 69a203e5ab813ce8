package gateway

import (
	"fmt"
	"strconv"
)

// FormatID writes a session's number as people see it.
func FormatID(id uint64) string { return fmt.Sprintf("%016x", id) }

// ParseID reads a session's number.
func ParseID(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 16, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no session: expected 16 hexadecimal digits as the list of sessions shows them", text)
	}
	return id, nil
}
