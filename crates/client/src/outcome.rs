//! How a command ends.

/// What a command's exit code says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exit {
    /// It was done.
    Done = 0,
    /// It failed, for the reason that was printed.
    Failed = 1,
    /// The plan has mistakes.
    BadPlan = 3,
    /// The service cannot be reached.
    Unreachable = 4,
    /// The service knows no such token.
    NotSignedIn = 5,
    /// The ledger does not balance.
    NotBalanced = 6,
    /// The question was answered with no.
    Declined = 7,
}

/// A failure with the exit code that tells its kind.
#[derive(Debug)]
pub struct Failure {
    /// Its kind.
    pub exit: Exit,
    /// What went wrong, for the one who ran the command.
    pub message: String,
}

impl Failure {
    /// A failure of a kind, with what is said of it.
    pub fn new(exit: Exit, message: impl Into<String>) -> Failure {
        Failure { exit, message: message.into() }
    }
}

impl From<anyhow::Error> for Failure {
    fn from(e: anyhow::Error) -> Failure {
        Failure::new(Exit::Failed, format!("{e:#}"))
    }
}

/// How a command ended.
pub type Outcome = Result<Exit, Failure>;
