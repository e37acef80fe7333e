module github.com/santhosh-tekuri/jsonschema/v6

go 1.21

require (
	github.com/dlclark/regexp2 v1.11.0 // used for testing
	golang.org/x/text v0.14.0
)
