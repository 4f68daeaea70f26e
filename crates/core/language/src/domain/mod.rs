//! What the service keeps beside events: who may do what, lanes, rules with their alerts, keys, what people save, and the
//! account of arrivals. Types without storage: `store` writes and reads them, the service decides by them.

/// An enum whose values have names, by which they are stored and shown.
macro_rules! named {
    ($(#[$on_enum:meta])* pub enum $name:ident { $($(#[$on_value:meta])* $value:ident = $text:literal,)+ }) => {
        $(#[$on_enum])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum $name { $($(#[$on_value])* $value,)+ }

        impl $name {
            /// Every value.
            pub const ALL: &'static [$name] = &[$($name::$value),+];

            /// The name by which it is stored and shown.
            pub fn name(self) -> &'static str {
                match self { $($name::$value => $text),+ }
            }

            /// By its name.
            pub fn from_name(name: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|value| value.name() == name)
            }
        }
    };
}

pub mod access;
pub mod arrivals;
pub mod contact;
pub mod error_group;
pub mod grant;
pub mod kept;
pub mod key;
pub mod lane;
pub mod rule;
pub mod trail;

#[cfg(test)]
mod tests {
    use super::access::{Purpose, Role};
    use super::contact::{AlertMove, Dropped, NotifyBy};
    use super::grant::May;
    use super::rule::{Closed, RuleCondition, RuleState};

    #[test]
    fn names_lead_back_to_their_values() {
        assert!(Role::ALL.iter().all(|v| Role::from_name(v.name()) == Some(*v)));
        assert!(Purpose::ALL.iter().all(|v| Purpose::from_name(v.name()) == Some(*v)));
        assert!(May::ALL.iter().all(|v| May::from_name(v.name()) == Some(*v)) && May::Read < May::Manage);
        assert!(RuleState::ALL.iter().all(|v| RuleState::from_name(v.name()) == Some(*v)));
        assert!(NotifyBy::ALL.iter().all(|v| NotifyBy::from_name(v.name()) == Some(*v)));
        assert!(AlertMove::ALL.iter().all(|v| AlertMove::from_name(v.name()) == Some(*v)));
        assert!(RuleCondition::ALL.iter().all(|v| RuleCondition::from_name(v.name()) == Some(*v)));
        assert!(Closed::ALL.iter().all(|v| Closed::from_name(v.name()) == Some(*v)));
        assert!(Dropped::ALL.iter().all(|v| Dropped::from_name(v.name()) == Some(*v)));
        assert_eq!((Role::from_name("Admin"), RuleState::from_name("")), (None, None));
    }
}
