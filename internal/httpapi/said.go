package httpapi

import "github.com/danielgtaylor/huma/v2/validation"

// What is wrong with a field is told in words that an engineer reads, beside the field's name: what to give, rather than which rule of a
// schema was broken.
func init() {
	validation.MsgUnexpectedProperty = "there is no such field here"
	validation.MsgExpectedRequiredProperty = "%s is missing"
	validation.MsgExpectedDependentRequiredProperty = "%s is needed where %s is given"
	validation.MsgExpectedString = "give a text"
	validation.MsgExpectedBoolean = "give true or false"
	validation.MsgExpectedNumber = "give a number"
	validation.MsgExpectedInteger = "give a whole number"
	validation.MsgExpectedArray = "give a list"
	validation.MsgExpectedObject = "give fields"
	validation.MsgExpectedOneOf = "give one of \"%s\""
	validation.MsgExpectedMinimumNumber = "give %v or more"
	validation.MsgExpectedMaximumNumber = "give %v or less"
	validation.MsgExpectedMinLength = "give at least %d characters"
	validation.MsgExpectedMaxLength = "give at most %d characters"
	validation.MsgExpectedMinItems = "give at least %d of them"
	validation.MsgExpectedMaxItems = "give at most %d of them"
	validation.MsgExpectedMatchPattern = "write it as %s says"
	validation.MsgExpectedRFC3339DateTime = "give a time such as 2026-06-01T12:00:00Z"
	validation.MsgExpectedRFCIPAddr = "give an address such as 10.20.0.1 or fd00:20::1"
	validation.MsgExpectedRFC2673IPv4 = "give an IPv4 address such as 10.20.0.1"
	validation.MsgExpectedRFC2373IPv6 = "give an IPv6 address such as fd00:20::1"
}
