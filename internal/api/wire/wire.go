// Package wire holds the bodies that go over the API, for the service and its
// client alike. They are data only.
package wire
