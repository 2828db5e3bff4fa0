package session

import (
	"github.com/spf13/cobra"

	"ironseal/pki/client"
)

// ClientsFlag adds a flag that names kinds of client.
func ClientsFlag(c *cobra.Command, flag string, typed *[]string, words string) {
	c.Flags().StringSliceVar(typed, flag, nil, words)
	CompleteWords(c, flag, append(client.Names(), "all")...)
}

// Clients are the kinds of client that a person names.
func Clients(typed []string) (out []client.Kind, err error) {
	if len(typed) == 1 && typed[0] == "all" {
		typed = client.Names()
	}
	for _, name := range typed {
		k, err := client.Of(name)
		if err != nil {
			return nil, &Status{Code: Usage, Err: err}
		}
		out = append(out, k)
	}
	return out, nil
}
