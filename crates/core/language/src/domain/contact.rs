//! Whom rules notify, how and when, and the messages to them.

named! {
    /// How a notification is delivered.
    pub enum NotifyBy {
        /// A signed POST to an address.
        Webhook = "webhook",
        /// A mail.
        Mail = "mail",
    }
}

named! {
    /// What a notification is about.
    pub enum AlertMove {
        /// The alert was raised.
        Raised = "raised",
        /// The alert is raised still, and nobody took it.
        Repeated = "repeated",
        /// The alert ended.
        Ended = "ended",
        /// Late events undid the alert.
        Withdrawn = "withdrawn",
        /// Messages are held back: there are more in the hour than the contact takes.
        HeldBack = "held-back",
        /// Messages to another contact do not arrive.
        Unreachable = "unreachable",
        /// Somebody on call reads a lane of the contact's team without having been asked.
        GlassBroken = "glass-broken",
        /// Calvex works.
        Heartbeat = "heartbeat",
        /// None: an administrator tries whether messages arrive.
        Test = "test",
    }
}

named! {
    /// Why a message was never sent.
    pub enum Dropped {
        /// Nobody could be notified before the alert ended.
        Over = "over",
        /// Somebody took the alert before the contact's hours began.
        Taken = "taken",
        /// There were more in the hour than the contact takes.
        HeldBack = "held back",
        /// The contact was removed, or has no such way any more.
        NoWay = "no way",
        /// It was tried for a day.
        GivenUp = "given up",
    }
}

/// Whom rules notify, and how.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Contact {
    /// What rules call it; empty for the ways that a rule has of its own.
    pub name: String,
    /// Where a signed webhook goes.
    pub webhook: Option<String>,
    /// What signs it.
    pub webhook_secret: Option<String>,
    /// What signs it too, until a time: receivers change over meanwhile.
    pub old_secret: Option<(String, i64)>,
    /// Whom mail goes to.
    pub mail: Option<String>,
    /// When it is notified, and how often.
    pub plan: ContactPlan,
    /// How often it hears that Calvex works, in seconds; 0 for never.
    pub heartbeat_s: u32,
    /// When it heard last, and why not since.
    pub beat: (i64, String),
    /// Since when messages to it do not arrive.
    pub failing_since_ns: Option<i64>,
    /// The team whose it is: rules of this team alone notify it. Any rule may, if none.
    pub team: Option<u32>,
}

/// When a contact is notified, and how often.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ContactPlan {
    /// As `mon-fri 08:00-18:00, sat 10:00-12:00`; empty for always.
    pub hours: String,
    /// The time zone of the hours.
    pub zone: String,
    /// Who is notified outside of the hours, and where nobody took an alert in time.
    pub next: Option<String>,
    /// How long somebody has to take it, in seconds.
    pub next_after_s: u32,
    /// How often an alert that nobody took is repeated, in seconds; 0 for never.
    pub repeat_s: u32,
    /// Messages of an hour at most.
    pub hourly: u32,
}

impl Default for ContactPlan {
    fn default() -> Self {
        ContactPlan { hours: String::new(), zone: "UTC".into(), next: None, next_after_s: 900, repeat_s: 0, hourly: 60 }
    }
}

/// A notification.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Notification {
    pub id: u64,
    /// None where it is of no alert, or the alert's rule was removed.
    pub alert_id: Option<u32>,
    /// Empty for a way that the rule has of its own.
    pub contact: String,
    pub by: NotifyBy,
    pub what: AlertMove,
    /// Which of several about the same, from 0.
    pub round: u32,
    pub target: String,
    /// Of a way that the rule has of its own.
    pub secret: Option<String>,
    pub payload: String,
    pub made_ns: i64,
    /// When it is to be sent first: later than it was made where the contact has hours.
    pub due_ns: i64,
    pub tries: u32,
    pub done_ns: Option<i64>,
    pub dropped: Option<Dropped>,
    pub error: String,
}

/// One try to deliver a message.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct DeliveryTry {
    pub at_ns: i64,
    /// Empty where it arrived.
    pub error: String,
}
