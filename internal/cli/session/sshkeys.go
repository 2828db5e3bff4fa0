package session

import "ironseal/internal/keystore/sshagent"

// operatorKeys are the SSH keys of the person at this machine.
func (s *Session) operatorKeys() *sshagent.Keys {
	k := &sshagent.Keys{Agent: s.SSHAgent(), File: s.KeyFile, Pass: (*Passphrases)(s)}
	if k.File == "" {
		k.File = s.Env("IRONSEAL_OPERATOR_KEY")
	}
	return k
}

// SSHAgent is the agent that was named, or that the environment names; nil for none.
func (s *Session) SSHAgent() *sshagent.Agent {
	if s.Agent != "" {
		return &sshagent.Agent{Socket: s.Agent}
	}
	return sshagent.Here(s.Env)
}
