package exact

import (
	"math/big"
	"math/rand/v2"
	"testing"
)

// random returns integers of every length.
func random(r *rand.Rand) Int128 {
	x := Int128{Hi: int64(r.Uint64()), Lo: r.Uint64()}
	for range r.IntN(38) {
		x, _ = x.Quo(Wide(10))
	}
	return x
}

func TestInt128AgainstBig(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	same := func(op string, x, y Int128, z Int128, ok bool, want *big.Int) {
		t.Helper()
		if fits := want.BitLen() <= 127; ok != fits || ok && z.Big().Cmp(want) != 0 {
			t.Fatalf("%v %s %v = %v, %v; want %v", x.Big(), op, y.Big(), z.Big(), ok, want)
		}
	}
	for range 200_000 {
		x, y := random(r), random(r)
		if x.Hi == -1<<63 || y.Hi == -1<<63 {
			continue
		}
		a, b := x.Big(), y.Big()
		z, ok := x.Add(y)
		same("+", x, y, z, ok, new(big.Int).Add(a, b))
		z, ok = x.Mul(y)
		same("*", x, y, z, ok, new(big.Int).Mul(a, b))
		if b.Sign() != 0 {
			up := r.IntN(12)
			z, ok = QuoScaled(x, y, up)
			scaled := new(big.Int).Mul(a, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(up)), nil))
			same("/", x, y, z, ok, halfAway(scaled, b))
		}
		if got := x.Cmp(y); got != a.Cmp(b) {
			t.Fatalf("Cmp(%v, %v) = %d", a, b, got)
		}
		if back, ok := FromBig(a); !ok || back != x {
			t.Fatalf("FromBig(%v) = %v, %v", a, back, ok)
		}
	}
}

// halfAway divides with the schoolbook's rounding: add half, cut off.
func halfAway(x, y *big.Int) *big.Int {
	n := new(big.Int).Mul(new(big.Int).Abs(x), big.NewInt(2))
	d := new(big.Int).Abs(y)
	n.Add(n, d).Quo(n, new(big.Int).Mul(d, big.NewInt(2)))
	if x.Sign()*y.Sign() < 0 {
		n.Neg(n)
	}
	return n
}
