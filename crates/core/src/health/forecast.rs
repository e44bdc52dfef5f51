//! What checks cost, and how long users suffer when something fails.

use std::time::Duration;

use super::{CheckTerms, Checked, HealthCheck, Thresholds};

/// A month, as requests are counted: 30 days.
const MONTH_SECS: u64 = 30 * 86_400;
/// How long it takes until a decision is on every server of a zone that passes changes on at once.
const PUBLISHING: Duration = Duration::from_secs(2);
/// From how many requests a month on a single thing is checked more than it is worth.
const MANY_REQUESTS: u64 = 500_000;
/// A failover is defeated by a TTL that is longer than this and longer than it takes to see a failure.
const LONG_TTL: Duration = Duration::from_secs(120);

/// From how long on users suffer by what answers every other time that it is worth a word.
const LONG_FLAPPING: Duration = Duration::from_secs(60);

/// What a check costs and how fast it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Forecast {
    /// How many requests are made in 30 days.
    pub requests_per_month: u64,
    /// About how many bytes they are, both ways, without the body of a response.
    pub bytes_per_month: u64,
    /// How long a failure can last until the verdict is down: interval × threshold + timeout.
    pub detect: Duration,
    /// Whether an alias follows the verdict.
    pub is_followed: bool,
    /// How long the new answer takes to be on all servers; nothing where no answer changes.
    pub publish: Duration,
    /// The TTL of the alias that then changes: for so long a resolver may go on with the old answer.
    pub ttl: Duration,
    /// What is doubtful about it.
    pub warnings: Vec<Warning>,
}

impl Forecast {
    /// Returns for how long users suffer at most: until it is seen, published, and out of every cache. `None` where no
    /// answer changes: they suffer until it is mended.
    pub fn users_suffer(&self) -> Option<Duration> {
        self.is_followed.then(|| self.detect + self.publish + self.ttl)
    }
}

/// What is doubtful about a check.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Warning {
    /// Caches keep the old answer for longer than it takes to see a failure.
    #[error(
        "the TTL of {hostname} ({} s) defeats failover: caches keep the failed endpoint for longer than it takes to see that it failed ({} s)",
        .ttl.as_secs(), .detect.as_secs()
    )]
    TtlDefeatsFailover {
        /// The hostname with the longest TTL.
        hostname: String,
        /// Its TTL.
        ttl: Duration,
        /// How long a failure can go unseen.
        detect: Duration,
    },
    /// More requests than it is worth.
    #[error(
        "it makes {:.1} million requests a month, which a platform may charge for: check less often",
        *.requests as f64 / 1e6
    )]
    Costly {
        /// How many requests a month.
        requests: u64,
    },
    /// What fails only sometimes is left late, if at all.
    #[error(
        "an endpoint that answers every other time is left only after {} s on average, and longer where it answers more often: down_when = {{ failed = 3, of = 10 }} counts failures among successes",
        .after.as_secs()
    )]
    MissesFlapping {
        /// How long it takes on average until so many checks in a row fail where every other one does, at random.
        after: Duration,
    },
    /// One lost packet changes the verdict.
    #[error("a single {result} changes the verdict: one lost packet makes it flap")]
    Flaps {
        /// `failure` or `success`.
        result: &'static str,
    },
}

impl Warning {
    /// Returns its stable word.
    pub fn code(&self) -> &'static str {
        match self {
            Warning::TtlDefeatsFailover { .. } => "ttl-defeats-failover",
            Warning::Costly { .. } => "costly",
            Warning::MissesFlapping { .. } => "misses-flapping",
            Warning::Flaps { .. } => "flaps",
        }
    }
}

/// Says how long a failure can last until the verdict is down.
fn detect(terms: &CheckTerms) -> Duration {
    // The first failing check begins up to one interval after the failure, and the last one takes its time.
    terms.every * terms.thresholds.down_after + terms.timeout
}

/// Forecasts a check that looks at so many addresses. `moves` is the hostname with the longest TTL whose
/// alias follows its verdict.
pub fn forecast(check: &HealthCheck, addresses: usize, moves: Option<(&str, Duration)>) -> Forecast {
    let terms = &check.terms;
    let rounds = MONTH_SECS * 1_000 / u64::try_from(terms.every.as_millis()).unwrap_or(u64::MAX).max(1);
    let requests_per_month = rounds * addresses as u64;
    // Measured on loopback with captures: packets' headers, a handshake with a chain of two, a small request.
    let bytes = match &check.what {
        Checked::Endpoint { request, .. } | Checked::Url(request) if request.exchange.is_tls => 6_000,
        Checked::Endpoint { .. } | Checked::Url(_) => 1_300,
        Checked::Tcp(_) => 400,
        Checked::Tls(_) => 5_000,
        Checked::Dns { .. } => 250,
        Checked::Program(_) | Checked::Combination(_) => 0,
    };
    let detect = detect(terms);
    let (publish, ttl) = moves.map_or((Duration::ZERO, Duration::ZERO), |(_, ttl)| (PUBLISHING, ttl));
    let mut warnings = Vec::new();
    if let Some((hostname, ttl)) = moves
        && ttl > LONG_TTL
        && ttl > detect
    {
        warnings.push(Warning::TtlDefeatsFailover { hostname: hostname.to_owned(), ttl, detect });
    }
    if rounds > MANY_REQUESTS {
        warnings.push(Warning::Costly { requests: requests_per_month });
    }
    // Where nothing else can be given nobody is helped by a verdict.
    let Thresholds { down_after, rate, .. } = terms.thresholds;
    if moves.is_some() && rate.is_none() && down_after > 1 {
        // So many heads in a row come after 2^(n+1) − 2 throws on average.
        let checks = 2_u32.checked_pow(down_after + 1).map_or(u32::MAX, |throws| throws - 2);
        let after = terms.every.saturating_mul(checks);
        warnings.extend((after > LONG_FLAPPING).then_some(Warning::MissesFlapping { after }));
    }
    let singles = [(terms.thresholds.down_after, "failure"), (terms.thresholds.up_after, "success")];
    let single = singles.into_iter().find(|(after, _)| *after == 1);
    warnings.extend(single.map(|(_, result)| Warning::Flaps { result }));
    Forecast {
        requests_per_month,
        bytes_per_month: requests_per_month * bytes,
        detect,
        is_followed: moves.is_some(),
        publish,
        ttl,
        warnings,
    }
}

#[cfg(test)]
mod tests {
    use super::super::HostPort;
    use super::*;

    #[test]
    fn what_users_suffer_is_the_sum_that_nobody_adds_up() {
        let check = |every: u64, timeout: u64, down_after, up_after| HealthCheck {
            name: "queue".into(),
            what: Checked::Tcp("127.0.0.1:5432".parse::<HostPort>().unwrap()),
            terms: CheckTerms {
                every: Duration::from_secs(every),
                timeout: Duration::from_secs(timeout),
                thresholds: Thresholds { down_after, up_after, rate: None },
            },
        };
        // Interval, timeout, thresholds, addresses, TTL; requests, seconds until seen, seconds in all, warnings.
        type Terms = (u64, u64, u32, u32);
        type Row = (Terms, usize, u64, (u64, u64, u64), &'static [&'static str]);
        let table: [Row; 6] = [
            ((20, 5, 3, 2), 2, 30, (259_200, 65, 97), &["misses-flapping"]),
            ((10, 5, 3, 2), 1, 600, (259_200, 35, 637), &["ttl-defeats-failover", "misses-flapping"]),
            ((5, 1, 2, 2), 1, 30, (518_400, 11, 43), &["costly"]),
            ((30, 5, 1, 2), 1, 60, (86_400, 35, 97), &["flaps"]),
            ((30, 5, 2, 1), 1, 120, (86_400, 65, 187), &["misses-flapping", "flaps"]),
            ((60, 10, 3, 2), 0, 60, (0, 190, 252), &["misses-flapping"]),
        ];
        for ((every, timeout, down, up), addresses, ttl, (requests, seen, suffer), warnings) in table {
            let moves = Some(("tonight.larkfield.example", Duration::from_secs(ttl)));
            let found = forecast(&check(every, timeout, down, up), addresses, moves);
            assert_eq!((found.requests_per_month, found.detect.as_secs()), (requests, seen), "every {every} s");
            assert_eq!(found.users_suffer().map(|it| it.as_secs()), Some(suffer), "every {every} s");
            let codes: Vec<&str> = found.warnings.iter().map(Warning::code).collect();
            assert_eq!(codes, warnings, "every {every} s");
        }
        let alone = forecast(&check(20, 5, 3, 2), 1, None);
        assert_eq!(alone.warnings, [], "nothing else could be given");
        assert_eq!((alone.detect.as_secs(), alone.users_suffer()), (65, None), "no alias follows it");
    }
}
