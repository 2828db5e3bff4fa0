package api

import (
	"time"

	"ironseal/internal/app/operators"
)

// Operator is a person who acts on the estate.
type Operator struct {
	Name        string    `json:"name" doc:"the operator's name"`
	Role        string    `json:"role" doc:"auditor, clerk, signer, administrator; recovery for the code on paper"`
	Key         string    `json:"key" doc:"the SSH public key, as a line"`
	Fingerprint string    `json:"fingerprint" doc:"of the key, as SSH writes it"`
	Since       time.Time `json:"since" doc:"when this key and role were recorded"`
	By          string    `json:"by" doc:"who recorded them"`
}

// OperatorOf is the shape of an operator.
func OperatorOf(o operators.Listed) Operator {
	return Operator{o.Name, string(o.Role), o.Key.String(), o.Key.Fingerprint(), o.Since, o.By}
}
