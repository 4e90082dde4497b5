package api

import "humblemule.example/job"

// SessionStatus tells who a caller is.
type SessionStatus struct {
	Principal string `json:"principal"`
	Role      string `json:"role"`
	// Tokens tells whether the service asks for tokens.
	Tokens bool `json:"tokens"`
	// Session is the number of the session whose cookie was shown; 0 where none was. EndsAt is when
	// it ends by itself, and CSRF what requests that change something carry as X-CSRF-Token.
	Session int64    `json:"session,omitzero"`
	EndsAt  job.Time `json:"ends_at,omitzero"`
	CSRF    string   `json:"csrf,omitzero"`
}

// Session is somebody who has shown a token to the console.
type Session struct {
	ID        int64    `json:"id"`
	Principal string   `json:"principal"`
	MadeAt    job.Time `json:"made_at"`
	SeenAt    job.Time `json:"seen_at"`
	EndsAt    job.Time `json:"ends_at"`
	// Address is where it was begun from, and Agent what the browser called itself.
	Address string `json:"address"`
	Agent   string `json:"agent"`
	// This tells that it is the caller's own.
	This bool `json:"this,omitzero"`
}

// TokenStatus tells of a token that is good: never the token itself.
type TokenStatus struct {
	Name string `json:"name"`
	Role string `json:"role"`
	// Hash is the beginning of its SHA-256, which tells one of two tokens of a name.
	Hash string `json:"hash"`
	// Expires is from when on it is not good any more; 0 for never.
	Expires job.Time `json:"expires,omitzero"`
	// UsedAt is when it was used last; 0 for not since Since, the start of the service.
	UsedAt job.Time `json:"used_at,omitzero"`
	Since  job.Time `json:"since"`
}
