//! What sending costs: exact amounts of money, and prices.

use std::fmt::{self, Display, Formatter};
use std::iter::Sum;
use std::ops::{Add, AddAssign};

use crate::Amount;

/// Parts of one unit of a currency that are told apart.
const PARTS: i128 = 1_000_000_000_000_000;
/// Decimal places of [`PARTS`].
const PLACES: usize = 15;
/// Most decimal places of a price.
const PRICE_PLACES: usize = 6;
/// The largest price.
const LARGEST: i128 = 1_000_000_000 * PARTS;
/// Bytes for which a price per GB is.
const GB: i128 = 1_000_000_000;
/// Events for which a price per million is.
const MILLION: i128 = 1_000_000;

/// An exact amount of money, in some currency, to 15 decimal places. What is beyond 10²² units is kept at that.
///
/// ```
/// use rockrose_ledger::Money;
/// let fee = Money::read("2.40").unwrap();
/// assert_eq!((fee + fee).to_string(), "4.80");
/// assert_eq!((fee.times(1, 1_000_000_000)).to_string(), "0.0000000024");
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Money(i128);

impl Money {
    /// Nothing.
    pub const ZERO: Money = Money(0);

    /// A price as it is written: a number from 0 to 10⁹ with at the most six decimal places.
    #[must_use]
    pub fn read(text: &str) -> Option<Money> {
        let (whole, rest) = text.split_once('.').unwrap_or((text, ""));
        let digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit());
        let rest = rest.trim_end_matches('0');
        if whole.is_empty() || !digits(whole) || !digits(rest) || rest.len() > PRICE_PLACES || whole.len() > 10 {
            return None;
        }
        let money = whole.parse::<i128>().ok()? * PARTS + format!("{rest:0<PLACES$}").parse::<i128>().ok()?;
        (money <= LARGEST).then_some(Money(money))
    }

    /// An amount as [`Money`] is printed, with all of its places.
    #[must_use]
    pub fn read_exact(text: &str) -> Option<Money> {
        let (sign, digits) = text.strip_prefix('-').map_or((1, text), |rest| (-1, rest));
        let (whole, rest) = digits.split_once('.').unwrap_or((digits, ""));
        let are_digits = whole.bytes().chain(rest.bytes()).all(|b| b.is_ascii_digit());
        if whole.is_empty() || !are_digits || rest.len() > PLACES {
            return None;
        }
        let parts = whole.parse::<i128>().ok()?.checked_mul(PARTS)?.checked_add(format!("{rest:0<PLACES$}").parse().ok()?)?;
        Some(Money(sign * parts))
    }

    /// So many times this, over `over`; half a part is rounded away from nothing. `over` is at least 1.
    #[must_use]
    pub fn times(self, times: i128, over: i128) -> Money {
        let over = over.max(1);
        // Whole times first: so products stay small.
        let (whole, rest) = (self.0.saturating_mul(times / over), self.0.saturating_mul(times % over));
        let rounded = rest / over + if 2 * (rest % over).abs() >= over { rest.signum() } else { 0 };
        Money(whole.saturating_add(rounded))
    }

    /// The amount in parts of 10⁻¹⁵ units.
    #[must_use]
    pub fn parts(self) -> i128 {
        self.0
    }

    /// The amount, as near as a float can tell it: for forecasts and drawings, never for sums.
    #[must_use]
    pub fn to_f64(self) -> f64 {
        self.0 as f64 / PARTS as f64
    }
}

impl Add for Money {
    type Output = Money;

    fn add(self, other: Money) -> Money {
        Money(self.0.saturating_add(other.0))
    }
}

impl AddAssign for Money {
    fn add_assign(&mut self, other: Money) {
        *self = *self + other;
    }
}

impl Sum for Money {
    fn sum<I: Iterator<Item = Money>>(all: I) -> Money {
        all.fold(Money::ZERO, Add::add)
    }
}

/// With all of its decimal places, and two at least.
impl Display for Money {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let (whole, rest) = (self.0.unsigned_abs() / PARTS.unsigned_abs(), self.0.unsigned_abs() % PARTS.unsigned_abs());
        let rest = format!("{rest:0>PLACES$}");
        let shown = rest.trim_end_matches('0').len().max(2);
        write!(f, "{}{whole}.{}", if self.0 < 0 { "-" } else { "" }, &rest[..shown])
    }
}

/// What a destination's operator bills.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Price {
    /// For 1 000 000 000 bytes.
    pub per_gb: Money,
    /// For 1 000 000 events.
    pub per_million: Money,
    /// For a month, whatever is sent.
    pub per_month: Money,
    /// ISO 4217 code.
    pub currency: String,
}

impl Price {
    /// What sending so much costs, without what is paid by the month. Prices have six decimal places, so it is exact, and costs of parts add up to the cost of the whole.
    #[must_use]
    pub fn of(&self, sent: Amount) -> Money {
        self.per_gb.times(sent.bytes.into(), GB) + self.per_million.times(sent.events.into(), MILLION)
    }

    /// What is paid for a stretch of a month, whatever is sent: `stretch` and `month` in the same unit.
    #[must_use]
    pub fn standing(&self, stretch: i64, month: i64) -> Money {
        self.per_month.times(stretch.into(), month.into())
    }
}

/// In words, such as `2.40 EUR a GB and 100.00 EUR a month`.
impl Display for Price {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let parts = [(self.per_gb, "a GB"), (self.per_million, "a million events"), (self.per_month, "a month")];
        let parts: Vec<String> =
            parts.iter().filter(|(money, _)| *money != Money::ZERO).map(|(money, unit)| format!("{money} {} {unit}", self.currency)).collect();
        match &parts[..] {
            [] => f.write_str("nothing"),
            [one] => f.write_str(one),
            [most @ .., last] => write!(f, "{} and {last}", most.join(", ")),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn prices_are_read_and_printed_as_they_are_written() {
        for (text, printed) in
            [("2.40", "2.40"), ("0", "0.00"), ("12", "12.00"), ("0.000001", "0.000001"), ("1000000000", "1000000000.00"), ("1.500000000", "1.50")]
        {
            assert_eq!(Money::read(text).map(|m| m.to_string()).as_deref(), Some(printed), "{text}");
        }
        for wrong in ["", ".5", "-1", "1e3", "1.0000001", "1000000000.1", "99999999999", "1_000", "inf", "1.2.3"] {
            assert_eq!(Money::read(wrong), None, "{wrong}");
        }
        assert_eq!(Money(-1_500_000_000_000_000).to_string(), "-1.50");
        for n in [0, 1, -7, 123_456_789_000_000_001, i64::MAX.into()] {
            assert_eq!(Money::read_exact(&Money(n).to_string()), Some(Money(n)));
        }
        assert_eq!([Money::read_exact("1.0000000000000001"), Money::read_exact("-"), Money::read_exact("1e3"), Money::read_exact("")], [None; 4]);
    }

    #[test]
    fn a_price_of_several_parts_adds_up() {
        let read = |text| Money::read(text).unwrap();
        let price = Price { per_gb: read("2.40"), per_million: read("0.50"), per_month: read("100"), currency: "EUR".into() };
        assert_eq!(price.of(Amount { events: 3_000_000, bytes: 10_000_000_000 }).to_string(), "25.50");
        assert_eq!(price.of(Amount { events: 1, bytes: 1 }).to_string(), "0.0000005024");
        assert_eq!((price.standing(1, 30).to_string(), price.standing(30, 30).to_string()), ("3.333333333333333".to_owned(), "100.00".to_owned()));
        assert_eq!(price.to_string(), "2.40 EUR a GB, 0.50 EUR a million events and 100.00 EUR a month");
        assert_eq!(
            (Price::default().to_string(), Price { per_gb: read("1"), currency: "EUR".into(), ..Price::default() }.to_string()),
            ("nothing".into(), "1.00 EUR a GB".into())
        );
        assert_eq!(read("2").to_f64(), 2.0);
    }

    proptest! {
        /// However an amount is divided, the costs of its parts are the cost of the whole: nothing is rounded.
        #[test]
        fn parts_cost_as_much_as_the_whole(per_gb in 0..2_000_000_000u64, per_million in 0..2_000_000_000u64, parts in prop::collection::vec((0..i64::from(u32::MAX), 0..1i64 << 45), 1..20)) {
            let micro = |n: u64| Money::read(&format!("{}.{:06}", n / 1_000_000, n % 1_000_000)).unwrap();
            let price = Price { per_gb: micro(per_gb), per_million: micro(per_million), ..Price::default() };
            let whole = Amount { events: parts.iter().map(|p| p.0).sum(), bytes: parts.iter().map(|p| p.1).sum() };
            let sum: Money = parts.iter().map(|&(events, bytes)| price.of(Amount { events, bytes })).sum();
            prop_assert_eq!(sum, price.of(whole));
        }
    }
}
