//! Whether a process answers as it should.

use super::state::{Reason, elsewhere};
use crate::http;
use crate::process::Launched;
use model::ProcessType;
use serde::{Deserialize, Serialize};
use std::io;
use std::net::TcpStream;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

/// How often a process that does not answer yet is asked: less often each time.
const FIRST_PAUSE: Duration = Duration::from_millis(2);
const LONGEST_PAUSE: Duration = Duration::from_millis(250);
/// How often a healthy process is asked.
const EVERY: Duration = Duration::from_secs(5);
/// How long an answer may take.
const ANSWER: Duration = Duration::from_secs(5);
/// How long a process may take until it answers for the first time.
const START: Duration = Duration::from_secs(60);
/// After how many failures in a row a healthy process counts as unhealthy.
const FAILURES: u32 = 3;
/// After how many it is started again.
const HOPELESS: u32 = 10;

/// What a process is asked.
#[derive(Clone)]
pub(crate) enum Question {
    /// Nothing: it has no port.
    None,
    /// Whether it accepts connections, until it does for the first time.
    Port,
    /// Whether this path is answered with success.
    Path(String),
    /// Something of its own, on a connection, until it is ready for the first time.
    Own(OwnQuestion),
}

/// Asks on a connection whether a service is ready.
pub(crate) type OwnQuestion = Arc<dyn Fn(TcpStream) -> io::Result<()> + Send + Sync>;

impl Question {
    pub fn of(process: &ProcessType) -> Self {
        match (&process.health, process.port) {
            (_, None) => Self::None,
            (Some(path), Some(_)) => Self::Path(path.clone()),
            (None, Some(_)) => Self::Port,
        }
    }

    fn put(&self, launched: &Launched) -> Result<(), Reason> {
        let no_answer = |error: io::Error| Reason::NoAnswer { detail: error.to_string() };
        let connection = launched.connect_now().map_err(no_answer)?;
        match self {
            Self::None | Self::Port => Ok(()),
            Self::Own(ask) => ask(connection).map_err(no_answer),
            Self::Path(path) => {
                let (status, _) = http::ask_on(connection, path, ANSWER).map_err(no_answer)?;
                if (200..400).contains(&status) { Ok(()) } else { Err(Reason::Status { status }) }
            }
        }
    }
}

/// An answer, or that there was none.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Probe {
    /// When it was asked, in milliseconds since 1970.
    pub at_ms: u64,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// What was wrong.
    pub failure: Option<Reason>,
}

/// What follows from an answer.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Verdict {
    /// Nothing that was not known.
    AsBefore,
    Healthy,
    Unhealthy(Reason),
    /// It does not recover.
    Hopeless,
}

/// How a process is asked.
#[derive(Clone)]
pub(crate) struct HealthCheck {
    pub question: Question,
    /// How often, once it is healthy.
    pub every: Duration,
    /// How long it may take until it answers for the first time.
    pub start_within: Duration,
}

impl HealthCheck {
    pub fn of(process: &ProcessType) -> Self {
        let seconds =
            |declared: Option<u32>, usual| declared.map_or(usual, |s| Duration::from_secs(s.into()));
        Self {
            question: Question::of(process),
            every: seconds(process.health_every, EVERY),
            start_within: seconds(process.start_within, START),
        }
    }

    /// Something of its own, as often as usual.
    pub fn own(question: OwnQuestion) -> Self {
        Self { question: Question::Own(question), every: EVERY, start_within: START }
    }
}

/// The health of one process since its start.
pub(crate) struct Health {
    check: HealthCheck,
    begun: Instant,
    pause: Duration,
    failures: u32,
    is_healthy: Option<bool>,
}

impl Health {
    pub fn new(check: HealthCheck) -> Self {
        Self { check, begun: Instant::now(), pause: FIRST_PAUSE, failures: 0, is_healthy: None }
    }

    /// How long until it is asked; `None` when it is not asked any more.
    pub fn pause(&self) -> Option<Duration> {
        match (&self.check.question, self.is_healthy) {
            (Question::None, _) | (Question::Port | Question::Own(_), Some(true)) => None,
            (_, Some(true)) => Some(if self.failures == 0 { self.check.every } else { self.check.every / 5 }),
            (_, Some(false) | None) => Some(self.pause),
        }
    }

    /// Asks once; gives the answer, too, where it is worth remembering.
    pub fn ask(&mut self, launched: &Launched) -> (Verdict, Option<Probe>) {
        let (at, begun) = (SystemTime::now(), Instant::now());
        let failure = self.check.question.put(launched).err();
        let millis = at.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_millis();
        // A process that does not listen yet is no news.
        let is_news = self.is_healthy.is_some() || failure.is_none();
        let probe = is_news.then(|| Probe {
            at_ms: u64::try_from(millis).unwrap_or(u64::MAX),
            took_us: u64::try_from(begun.elapsed().as_micros()).unwrap_or(u64::MAX),
            failure: failure.clone(),
        });
        (self.judge(failure, || elsewhere(launched)), probe)
    }

    fn judge(&mut self, failure: Option<Reason>, elsewhere: impl Fn() -> Option<Reason>) -> Verdict {
        let Some(reason) = failure else {
            self.failures = 0;
            return match self.is_healthy.replace(true) {
                Some(true) => Verdict::AsBefore,
                Some(false) | None => Verdict::Healthy,
            };
        };
        self.failures += 1;
        self.pause = (self.pause * 2).min(LONGEST_PAUSE);
        let is_bad = match self.is_healthy {
            None => self.begun.elapsed() > self.check.start_within,
            Some(true) => self.failures >= FAILURES,
            Some(false) => {
                self.pause = self.check.every / 5;
                if self.failures >= HOPELESS {
                    return Verdict::Hopeless;
                }
                false
            }
        };
        if !is_bad {
            return Verdict::AsBefore;
        }
        let reason = match reason {
            Reason::NoAnswer { .. } => elsewhere().unwrap_or(reason),
            reason => reason,
        };
        self.is_healthy = Some(false);
        Verdict::Unhealthy(reason)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asking(question: Question) -> HealthCheck {
        HealthCheck { question, every: EVERY, start_within: START }
    }

    #[test]
    fn single_failures_are_forgiven_and_many_are_not() {
        let mut health = Health::new(asking(Question::Path("/well".to_owned())));
        let bad = || Some(Reason::Status { status: 503 });
        let mut judge = |failure| health.judge(failure, || None);
        assert_eq!(judge(bad()), Verdict::AsBefore, "it has just started");
        assert_eq!(judge(None), Verdict::Healthy);
        assert_eq!([judge(bad()), judge(bad())], [Verdict::AsBefore, Verdict::AsBefore]);
        assert_eq!(judge(None), Verdict::AsBefore);
        let three = [judge(bad()), judge(bad()), judge(bad())];
        assert_eq!(three[2], Verdict::Unhealthy(Reason::Status { status: 503 }));
        let more: Vec<_> = (0..7).map(|_| judge(bad())).collect();
        assert_eq!(more[6], Verdict::Hopeless, "{more:?}");
    }

    #[test]
    fn a_process_that_listens_is_not_connected_to_for_ever() {
        let mut health = Health::new(asking(Question::Port));
        assert!(health.pause().is_some());
        assert_eq!(health.judge(None, || None), Verdict::Healthy);
        assert_eq!(health.pause(), None);
    }
}
