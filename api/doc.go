// Package api holds the types that the service and its clients exchange as JSON.
package api
