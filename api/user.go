package api

import "time"

// Session is who is signed in.
type Session struct {
	By   string `json:"by" enum:"token,password,local"`
	User string `json:"user"`
	Role string `json:"role" enum:"look,sweep,administer"`

	May []string `json:"may" nullable:"false" enum:"look,sweep,administer" doc:"The roles that this one covers"`

	SecondFactor bool `json:"secondFactor" doc:"A second factor is set up"`
	Limited      bool `json:"limited" doc:"A second factor is to be set up before anything else"`
}

// SignIn is a name and a password.
type SignIn struct {
	User     string `json:"user" maxLength:"100"`
	Password string `json:"password" maxLength:"200"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, or a recovery code; only where the user has one"`
}

// Password is a new password.
type Password struct {
	Password string `json:"password" maxLength:"200"`
}

// OwnPassword is a password to be set for oneself.
type OwnPassword struct {
	Password     string `json:"password" maxLength:"200"`
	Present      string `json:"present,omitempty" maxLength:"200" doc:"The password there is; only the local command line may leave it out"`
	RevokeTokens bool   `json:"revokeTokens,omitempty" doc:"Delete one's tokens as well; all other sessions end in any case"`
}

// Confirmation is what a user shows again before something that a page left open must not do.
type Confirmation struct {
	Password string `json:"password" maxLength:"200"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, where that is what is changed"`
}

// SecondFactor is the secret of a second factor that is not turned on yet (RFC 6238).
type SecondFactor struct {
	Secret  string `json:"secret" doc:"In base32, for authenticators that are typed into"`
	URL     string `json:"url" doc:"The same as a link"`
	Picture string `json:"picture" doc:"The same as a picture, for authenticators that see: a data URL of a PNG"`
}

// Code is a code of the second factor.
type Code struct {
	Code string `json:"code" maxLength:"40"`
}

// RecoveryCodes stand in for a lost second factor, each once. They are told once.
type RecoveryCodes struct {
	Codes []string `json:"codes" nullable:"false"`
}

// Access is what lets somebody in besides the password itself.
type Access struct {
	Tokens   []Token      `json:"tokens" nullable:"false"`
	Sessions []OpenSignIn `json:"sessions" nullable:"false"`
}

// OpenSignIn is a session of the console.
type OpenSignIn struct {
	Origin string    `json:"origin" doc:"The address it was opened from"`
	Began  time.Time `json:"began"`
	Used   time.Time `json:"used" doc:"When somebody was at it last"`
}

// User is somebody who may sign in.
type User struct {
	Name    string    `json:"name" minLength:"1" maxLength:"100" pattern:"^[\\p{L}\\p{N}._@-]+$" doc:"Letters, digits, dot, dash, underscore and @"`
	Role    string    `json:"role" enum:"look,sweep,administer" doc:"look reads all; sweep also sweeps, writes notes and keeps the register; administer also keeps sites, fences and users"`
	Created time.Time `json:"created,omitzero" readOnly:"true"`

	SecondFactor bool `json:"secondFactor" readOnly:"true" doc:"A second factor is set up"`
}

// NewUser is a user to be entered.
type NewUser struct {
	Name     string `json:"name" minLength:"1" maxLength:"100" pattern:"^[\\p{L}\\p{N}._@-]+$"`
	Role     string `json:"role" enum:"look,sweep,administer"`
	Password string `json:"password" maxLength:"200"`
}

// Role is what a user may do.
type Role struct {
	Role string `json:"role" enum:"look,sweep,administer"`
}

// Token lets a command line act for a user.
type Token struct {
	ID      uint64    `json:"id"`
	Label   string    `json:"label"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Used    time.Time `json:"used,omitzero" doc:"When it was used last"`
	Secret  string    `json:"secret,omitempty" doc:"Told once, when it is made"`
}

// NewToken names a token to be made.
type NewToken struct {
	Label string `json:"label" minLength:"1" maxLength:"100" doc:"What it is for"`
	Days  int    `json:"days,omitempty" minimum:"1" maximum:"366" default:"90" doc:"For how many days it is good"`
}

// AuditLine says who did what, when and from where.
type AuditLine struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Role    string    `json:"role,omitempty"`
	Origin  string    `json:"origin" doc:"The address it came from"`
	Action  string    `json:"action" example:"start-sweep"`
	Subject string    `json:"subject"`
	Outcome int       `json:"outcome" doc:"HTTP status"`
}
