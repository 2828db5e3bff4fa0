package event

import (
	"sync"

	"ironseal/pki/fault"
	"ironseal/pki/operator"
)

// least is the least role for each act. It is the one place where this is decided, and the page about operators is
// written from it. A test finds every act here.
var least = sync.OnceValue(func() map[string]operator.Role {
	out := map[string]operator.Role{}
	allow := func(role operator.Role, events ...Event) {
		for _, e := range events {
			out[e.Act()] = role
		}
	}
	allow(operator.Clerk, Received{}, Declined{}, Withdrawn{}, Drafted{}, DraftKeyDestroyed{}, DraftKeyEncrypted{},
		HandedOver{}, PartyKept{}, PartyRemoved{}, EndpointObserved{}, RootsConfirmed{}, RootsReported{},
		RootsInstalled{}, RootsRemoved{}, KitPacked{}, TransferPacked{}, BackedUp{}, Rehearsed{}, Invited{},
		InvitationEnded{}, HandedIn{}, FlawFound{}, RevokeLater{})
	allow(operator.Signer, Signed{}, Revoked{}, Released{}, ListsSigned{}, ListsImported{}, ListsPlaced{},
		IncidentOpened{}, IncidentClosed{}, CertificateImported{}, TransferOpened{}, TransferApproved{}, CodeMade{},
		CodeEnded{}, Enrolled{}, SigningGranted{}, PersonDecides{}, AccountKept{}, AccountEnded{}, OrderMade{},
		ChallengeTried{}, Proposed{}, Approved{}, ProposalEnded{})
	allow(operator.Administrator, EstateCreated{}, AuthorityCreated{}, AuthorityRenewed{}, CrossCertified{},
		AuthorityRetired{}, AuthorityReinstated{}, KeyDestroyed{}, AuthorityAdopted{}, LinkAdopted{}, Applied{},
		ApplicationWithdrawn{}, AnswerImported{}, PassphraseChangeBegun{}, PassphraseChanged{}, Switched{},
		SwitchedBack{}, IssuerAllowed{}, DataFileCopied{Kind: "template"}, DataFileCopied{Kind: "receiver"},
		DataFileCopied{Kind: "set"}, DataFileCopied{Kind: "platform"}, Restored{}, ClockSettled{}, KeyMovedAside{},
		RecordsUpgraded{}, RecordsMoved{}, RecordsStayed{}, FileRecorded{}, FileDropped{}, SetCreated{},
		SetExtended{}, SetReduced{}, ChangeOverPlanned{}, ChangeOverSwitched{}, ChangeOverCancelled{}, OperatorKept{},
		OperatorEnded{}, KeyHeld{})
	return out
})

// LeastRole is the least role for an act; "" for one that no role allows.
func LeastRole(act string) operator.Role { return least()[act] }

// May refuses an act that a role does not allow. The recovery code is for operators alone.
func May(role operator.Role, act string) error {
	if role == operator.Recovery && act == (OperatorKept{}).Act() {
		return nil
	}
	if r := least()[act]; r == "" || !role.May(r) {
		return fault.New(fault.Refused, "the act %q is for the role %s, and not for the role %s", act, r.At(), role)
	}
	return nil
}
