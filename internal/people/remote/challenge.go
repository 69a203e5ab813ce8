package remote

import (
	"context"
	"errors"
	"net/netip"

	wire "layeh.com/radius"
	"layeh.com/radius/vendors/microsoft"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/radius"
)

// Challenge implements source.Challenged (RFC 2548 §2.3). A password that has expired can be changed where the server takes that.
func (r *Server) Challenge(ctx context.Context, from netip.Addr, c eap.Check, step func(source.Asked),
) (who source.Person, v eap.Verdict, err error) {
	defer func() { r.Settled(err) }()
	if err := source.CheckUser(c.User); err != nil {
		return who, v, err
	}
	ctx, stop := context.WithTimeout(ctx, r.s.Patience())
	defer stop()
	a := &asking{r: r, ctx: ctx, told: step}
	p := r.request(c.User, from)
	if err := answered(p, c); err != nil {
		return who, v, source.Fail(source.Mistaken, "%v", err)
	}
	answer, err := a.ask(r.s.Servers, p, nil)
	if err != nil {
		return who, v, err
	}
	if answer.Code == wire.CodeAccessReject && chapError(answer) == chapExpired && c.Change == nil {
		return who, eap.Verdict{MustChange: true, Refusal: reason.Of(reason.PasswordToChange, nil)}, nil
	}
	if who, err = a.judged(answer, c.User); err != nil {
		return who, v, err
	}
	success := microsoft.MSCHAP2Success_Get(answer) // an octet that numbers it, then S= and 40 digits
	msk, err := key(answer, p)
	if len(success) != 43 || err != nil {
		return who, v,
			source.Fail(source.Mistaken,
				"the server accepts them without what proves it to their device and gives the tunnel its key: "+
					"have it send MS-CHAP2-Success and MS-MPPE keys")
	}
	return who, eap.Verdict{OK: true, Proof: string(success[1:]), MSK: msk}, nil
}

// answered writes a device's answer to a challenge.
func answered(p *radius.Packet, c eap.Check) error {
	err := microsoft.MSCHAPChallenge_Set(p, c.Challenge[:])
	if c.Change == nil {
		value := append([]byte{1, 0}, c.Peer[:]...) // a number, flags
		value = append(append(value, make([]byte, 8)...), c.Response[:]...)
		return errors.Join(err, microsoft.MSCHAP2Response_Set(p, value))
	}
	value := append([]byte{7, 1}, c.Change.Hash[:]...) // code, a number
	value = append(append(value, c.Peer[:]...), make([]byte, 8)...)
	value = append(append(value, c.Response[:]...), 0, 0) // flags
	err = errors.Join(err, microsoft.MSCHAP2CPW_Set(p, value))
	const most = 243 // octets of the password in one attribute (RFC 2548 §2.1.6)
	for i, rest := byte(1), c.Change.Password[:]; len(rest) > 0; i++ {
		n := min(len(rest), most)
		err = errors.Join(err, microsoft.MSCHAPNTEncPW_Add(p, append([]byte{6, 1, 0, i}, rest[:n]...)))
		rest = rest[n:]
	}
	return err
}

// key is the key that both sides have of a login, 64 octets: the server's two (RFC 2548 §2.4), then zeros. request is what was asked.
func key(answer, request *radius.Packet) ([]byte, error) {
	recv, err := microsoft.MSMPPERecvKey_Lookup(answer, request)
	send, other := microsoft.MSMPPESendKey_Lookup(answer, request)
	if err != nil || other != nil || len(recv) < 16 || len(recv) > 32 || len(send) < 16 || len(send) > 32 {
		return nil, errors.New("the server gives no keys")
	}
	msk := make([]byte, 64)
	copy(msk[copy(msk, recv):], send)
	return msk, nil
}
