package service

import "net/http"

// problemType is how the type of every problem begins (RFC 9457, 3.1.1); docs/problems.md lists what follows.
const problemType = "urn:airdrift:problem:"

// What programs can do something about is told apart beyond its status.
const (
	kindSweepRunning = "sweep-running"
	kindOutside      = "outside-fence"
	kindFaultyFile   = "faulty-file"
	kindTaken        = "already-there"
	kindChanged      = "changed-meanwhile"
	kindKeyUsed      = "key-used"
	kindKeyRunning   = "key-running"
	kindNameTyped    = "name-not-typed"
)

// kindsByStatus are the types of problems that nothing more is said of.
var kindsByStatus = map[int]string{
	http.StatusBadRequest: "invalid-request", http.StatusUnauthorized: "not-signed-in", http.StatusForbidden: "not-permitted", http.StatusNotFound: "not-found",
	http.StatusRequestTimeout: "too-slow", http.StatusConflict: "conflict", http.StatusPreconditionFailed: kindChanged, http.StatusRequestEntityTooLarge: "too-large",
	http.StatusUnsupportedMediaType: "unsupported-form", http.StatusUnprocessableEntity: "invalid-request", http.StatusTooManyRequests: "too-many-requests",
	http.StatusInternalServerError: "internal-failure", http.StatusServiceUnavailable: "not-available-now",
}

// typeOf gives the type of a problem of a kind; where that is empty, of a status.
func typeOf(kind string, status int) string {
	if kind == "" {
		kind = kindsByStatus[status]
	}
	if kind == "" {
		return "about:blank"
	}
	return problemType + kind
}
