//! How far people are with an error group: what is kept of it beside the failures themselves, and the state that follows.

named! {
    /// The state of an error group.
    pub enum GroupState {
        /// Nobody has said anything about it.
        New = "new",
        /// Somebody knows of it.
        Known = "known",
        /// Somebody has resolved it, and it was not seen since.
        Resolved = "resolved",
        /// It was seen after it had been resolved.
        Returned = "returned",
    }
}

/// What somebody has said about a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptGroup {
    /// The group's id.
    pub id: String,
    /// What was said: known or resolved.
    pub said: GroupState,
    /// When.
    pub said_ns: i64,
    /// By whom.
    pub said_by: String,
    /// The release that it is resolved in.
    pub release: Option<String>,
    /// Releases that had failed by then: with [`KeptGroup::release`] given, their failures are no return.
    pub failed_releases: Vec<String>,
    /// What else was said.
    pub note: String,
    /// When it was seen after it had been resolved.
    pub returned_ns: Option<i64>,
}

/// When a group was seen in a lane.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeenGroup {
    /// The group's id.
    pub id: String,
    /// In which lane.
    pub lane: u32,
    /// The first failure ever.
    pub first_ns: i64,
    /// The last one.
    pub last_ns: i64,
}

impl KeptGroup {
    /// Whether failures up to `last_ns` in these releases are a return: they came after the group had been resolved and,
    /// where it was resolved in a release, not all of them in releases that had failed before.
    pub fn returns(&self, last_ns: i64, releases: &[String]) -> bool {
        let another = |release: &String| !self.failed_releases.contains(release);
        self.said == GroupState::Resolved
            && last_ns > self.said_ns
            && (self.release.is_none() || releases.is_empty() || releases.iter().any(another))
    }

    /// The state of a group of which this is kept, seen last at `last_ns` in these releases.
    pub fn state(&self, last_ns: i64, releases: &[String]) -> GroupState {
        match self.said {
            GroupState::Resolved if self.returned_ns.is_some() || self.returns(last_ns, releases) => {
                GroupState::Returned
            }
            said => said,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn resolved(release: Option<&str>) -> KeptGroup {
        KeptGroup {
            id: "a".repeat(16),
            said: GroupState::Resolved,
            said_ns: 100,
            said_by: "mira".into(),
            release: release.map(str::to_owned),
            failed_releases: vec!["41.1".into()],
            note: String::new(),
            returned_ns: None,
        }
    }

    #[test]
    fn what_comes_after_it_was_resolved_is_a_return() {
        let group = resolved(None);
        assert_eq!(group.state(100, &[]), GroupState::Resolved);
        assert_eq!(group.state(101, &["41.1".into()]), GroupState::Returned);
        let returned = KeptGroup { returned_ns: Some(150), ..group.clone() };
        assert_eq!(returned.state(50, &[]), GroupState::Returned);
        let known = KeptGroup { said: GroupState::Known, ..group };
        assert_eq!(known.state(500, &[]), GroupState::Known);
    }

    #[test]
    fn releases_that_had_failed_before_may_go_on_failing() {
        let group = resolved(Some("41.2"));
        assert_eq!(group.state(101, &["41.1".into()]), GroupState::Resolved);
        assert_eq!(group.state(101, &["41.1".into(), "41.2".into()]), GroupState::Returned);
        // Where nothing says which release failed, any failure counts.
        assert_eq!(group.state(101, &[]), GroupState::Returned);
    }
}
