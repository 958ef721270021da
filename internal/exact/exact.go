// Package exact calculates with integers and decimals of up to 38 digits: an [Int128] is an unscaled value, and its
// scale is known to the caller. Nothing is lost quietly; what does not fit is told.
package exact

import (
	"cmp"
	"math/big"
	"math/bits"
)

// MaxDigits is the most digits a decimal may have; those of up to NarrowDigits fit an int64.
const (
	MaxDigits    = 38
	NarrowDigits = 18
)

// Int128 is a signed integer of 128 bits in two's complement, for decimals of up to 38 digits and
// for sums that must not overflow.
type Int128 struct {
	Hi int64
	Lo uint64
}

// Wide returns v as an Int128.
func Wide(v int64) Int128 { return Int128{v >> 63, uint64(v)} }

// Int64 returns x as an int64 and whether it fits.
func (x Int128) Int64() (int64, bool) { return int64(x.Lo), x.Hi == int64(x.Lo)>>63 }

// Sign returns -1, 0 or 1.
func (x Int128) Sign() int {
	if x.Hi < 0 {
		return -1
	}
	if x.Hi == 0 && x.Lo == 0 {
		return 0
	}
	return 1
}

// Neg returns -x.
func (x Int128) Neg() Int128 {
	lo, borrow := bits.Sub64(0, x.Lo, 0)
	hi, _ := bits.Sub64(0, uint64(x.Hi), borrow)
	return Int128{int64(hi), lo}
}

// Abs returns the magnitude of x as two words.
func (x Int128) abs() (hi, lo uint64) {
	if x.Hi < 0 {
		x = x.Neg()
	}
	return uint64(x.Hi), x.Lo
}

// Add returns x+y and whether it fits.
func (x Int128) Add(y Int128) (Int128, bool) {
	lo, carry := bits.Add64(x.Lo, y.Lo, 0)
	hi, _ := bits.Add64(uint64(x.Hi), uint64(y.Hi), carry)
	z := Int128{int64(hi), lo}
	return z, (x.Hi < 0) != (y.Hi < 0) || (z.Hi < 0) == (x.Hi < 0)
}

// Mul returns x*y and whether it fits.
func (x Int128) Mul(y Int128) (Int128, bool) {
	xh, xl := x.abs()
	yh, yl := y.abs()
	if xh != 0 && yh != 0 {
		return Int128{}, false
	}
	hi, lo := bits.Mul64(xl, yl)
	over1, mid1 := bits.Mul64(xh, yl)
	over2, mid2 := bits.Mul64(xl, yh)
	hi, c1 := bits.Add64(hi, mid1, 0)
	hi, c2 := bits.Add64(hi, mid2, 0)
	if over1|over2|c1|c2 != 0 || hi>>63 != 0 {
		return Int128{}, false
	}
	z := Int128{int64(hi), lo}
	if (x.Hi < 0) != (y.Hi < 0) {
		z = z.Neg()
	}
	return z, true
}

// Cmp compares x and y.
func (x Int128) Cmp(y Int128) int {
	return cmp.Or(cmp.Compare(x.Hi, y.Hi), cmp.Compare(x.Lo, y.Lo))
}

// Big returns x as a big integer, for the rare case that 128 bits do not hold a step.
func (x Int128) Big() *big.Int {
	hi, lo := x.abs()
	b := new(big.Int).SetUint64(hi)
	b.Lsh(b, 64).Or(b, new(big.Int).SetUint64(lo))
	if x.Hi < 0 {
		b.Neg(b)
	}
	return b
}

// FromBig returns b as an Int128 and whether it fits.
func FromBig(b *big.Int) (Int128, bool) {
	if b.BitLen() > 127 {
		return Int128{}, false
	}
	abs := new(big.Int).Abs(b)
	lo := new(big.Int).And(abs, new(big.Int).SetUint64(^uint64(0))).Uint64()
	z := Int128{int64(abs.Rsh(abs, 64).Uint64()), lo}
	if b.Sign() < 0 {
		z = z.Neg()
	}
	return z, true
}

// pow10 has the powers of ten that an Int128 holds.
var pow10 = func() (p [MaxDigits + 1]Int128) {
	p[0] = Wide(1)
	for i := 1; i < len(p); i++ {
		p[i], _ = p[i-1].Mul(Wide(10))
	}
	return
}()

// Pow10 returns 10 to the power n, 0 to 38.
func Pow10(n int) Int128 { return pow10[n] }

// Fits reports whether x has at most the given number of digits.
func (x Int128) Fits(digits int) bool {
	if x.Hi < 0 {
		x = x.Neg()
	}
	return x.Hi >= 0 && x.Cmp(pow10[digits]) < 0
}

// Quo returns x divided by y, rounded half away from zero, and whether y is not zero and the result fits.
func (x Int128) Quo(y Int128) (Int128, bool) {
	xh, xl := x.abs()
	yh, yl := y.abs()
	if yh == 0 && yl == 0 {
		return Int128{}, false
	}
	if yh != 0 || yl>>63 != 0 {
		return quoBig(x.Big(), y.Big())
	}
	qh := xh / yl
	ql, rest := bits.Div64(xh%yl, xl, yl)
	z := Int128{int64(qh), ql}
	if rest >= yl-rest {
		z, _ = z.Add(Wide(1))
	}
	if (x.Hi < 0) != (y.Hi < 0) {
		z = z.Neg()
	}
	return z, true
}

// Rem returns what is left of x divided by y, which is not zero, with the sign of x.
func (x Int128) Rem(y Int128) Int128 {
	if a, ok := x.Int64(); ok {
		if b, ok := y.Int64(); ok && b != -1 {
			return Wide(a % b)
		}
	}
	z, _ := FromBig(new(big.Int).Rem(x.Big(), y.Big()))
	return z
}

// QuoScaled returns x*10^up divided by y, rounded half away from zero.
func QuoScaled(x, y Int128, up int) (Int128, bool) {
	if scaled, ok := x.Mul(pow10[min(up, MaxDigits)]); ok && up <= MaxDigits {
		return scaled.Quo(y)
	}
	if y.Sign() == 0 {
		return Int128{}, false
	}
	b := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(up)), nil)
	return quoBig(b.Mul(b, x.Big()), y.Big())
}

func quoBig(x, y *big.Int) (Int128, bool) {
	q, r := new(big.Int).QuoRem(x, y, new(big.Int))
	if r.Abs(r).Lsh(r, 1).CmpAbs(y) >= 0 {
		if (x.Sign() < 0) != (y.Sign() < 0) {
			q.Sub(q, big.NewInt(1))
		} else {
			q.Add(q, big.NewInt(1))
		}
	}
	return FromBig(q)
}

// Rescale moves x from one scale to another, rounding half away from zero where digits are lost
// (rule R25), and says whether it fits 38 digits.
func (x Int128) Rescale(from, to int) (Int128, bool) {
	switch {
	case to > from:
		z, ok := x.Mul(pow10[min(to-from, MaxDigits)])
		return z, ok && to-from <= MaxDigits && z.Fits(MaxDigits)
	case to < from:
		if from-to > MaxDigits {
			return Int128{}, true
		}
		return x.Quo(pow10[from-to])
	}
	return x, true
}

// AppendDecimal writes x scaled by 10^-scale to b, with all its places.
func AppendDecimal(b []byte, x Int128, scale int) []byte {
	if x.Hi < 0 {
		b = append(b, '-')
	}
	hi, lo := x.abs()
	var buf [48]byte
	at := len(buf)
	for n := 0; n <= scale || hi != 0 || lo != 0; n++ {
		if n == scale && scale > 0 {
			at--
			buf[at] = '.'
		}
		var digit uint64
		hi, digit = hi/10, hi%10
		lo, digit = bits.Div64(digit, lo, 10)
		at--
		buf[at] = byte('0' + digit)
	}
	return append(b, buf[at:]...)
}
