package api

import (
	"ironseal/internal/app/requests/desk"
	"ironseal/internal/app/requests/enrol"
)

// ServedAddress is where a server listens.
type ServedAddress struct {
	Name    string `json:"name" doc:"public, desk or health"`
	Address string `json:"address" doc:"HOST:PORT or unix:FILE"`
	What    string `json:"what" doc:"what is served there"`
}

// EnrolmentCode is a code by which machines enrol.
type EnrolmentCode struct {
	enrol.Code
	Secret string `json:"code,omitempty" doc:"the code; printed once, when it is made"`
	enrol.Reach
}

// AccountCredential is a credential by which machines register ACME accounts.
type AccountCredential struct {
	enrol.Code
	Secret string `json:"key" doc:"the key, in base64url; printed once"`
	enrol.Reach
}

// Invitation is an invitation to the desk.
type Invitation struct {
	desk.Invitation
	Address string `json:"address,omitempty" doc:"the private address; printed once, when the invitation is made"`
}
