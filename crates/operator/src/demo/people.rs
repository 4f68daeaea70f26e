//! Who works with the demo: three teams, an auditor, somebody who reads a part, a partner for a while.

use super::Lane;
use anyhow::Result;
use calvex_client::client::Client;
use calvex_service::stand_in_provider::Known;
use calvex_wire::api::{GrantListed, NewGrant, NewPerson, PasswordCode, PutTeam};

/// People with a password: name and role.
const PEOPLE: [(&str, &str); 5] =
    [("olle", "reader"), ("ines", "reader"), ("tore", "reader"), ("noor", "reader"), ("vera", "auditor")];
/// A team: name, its people, the provider's group, whether it is on call, the lane it owns.
type Planned = (&'static str, &'static [&'static str], &'static str, bool, Option<&'static str>);

const TEAMS: [Planned; 3] = [
    ("lockers", &["olle", "ines"], "locker-people", true, Some("devices")),
    ("security", &["vera"], "security-people", false, Some("audit")),
    ("couriers", &["tore"], "courier-people", false, None),
];
/// How long the partner reads, days.
const PARTNER_DAYS: i64 = 30;

/// Whom the stand-in for a sign-on provider knows.
pub fn at_the_provider() -> Vec<Known> {
    let known = |name: &str, groups: &[&str]| Known {
        name: name.to_owned(),
        groups: groups.iter().map(|group| (*group).to_owned()).collect(),
    };
    vec![known("mira", &["locker-people"]), known("jun", &["courier-people", "drivers"]), known("sixten", &[])]
}

/// Makes them, and gives each what they work with; all with one password.
pub async fn set_up(client: &Client, password: &str, lanes: &[Lane]) -> Result<()> {
    for (name, role) in PEOPLE {
        let (name, password, role) = (name.to_owned(), Some(password.to_owned()), role.to_owned());
        let _: PasswordCode =
            client.post("/api/people", &NewPerson { name, password, role, lanes: Vec::new() }).await?;
    }
    for (name, members, group, on_call, owns) in TEAMS {
        let members = members.iter().map(|member| (*member).to_owned()).collect();
        let (members, claim) = (Some(members), Some(group.to_owned()));
        let ask = PutTeam { members, claim, on_call: Some(on_call), contact: None };
        client.put(&format!("/api/teams/{name}"), &ask).await?;
        if let Some(lane) = lanes.iter().find(|lane| Some(lane.name.as_str()) == owns) {
            let audited = Some(lane.name == "audit");
            let owned = Lane { owner: Some(name.to_owned()), audited, ..lane.clone() };
            client.put(&format!("/api/lanes/{}", lane.name), &owned).await?;
        }
    }
    let partner_ends = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24 * PARTNER_DAYS);
    let main = || NewGrant { lane: "main".into(), may: "read".into(), ..NewGrant::default() };
    let grants = [
        NewGrant {
            team: Some("lockers".into()),
            may: "configure".into(),
            why: "looks after the lockers".into(),
            ..main()
        },
        NewGrant {
            team: Some("couriers".into()),
            rows: "service=courier".into(),
            until: Some(format!("{partner_ends:.0}")),
            why: "partner for the season".into(),
            ..main()
        },
        NewGrant {
            person: Some("noor".into()),
            rows: "service in (notify, parcels)".into(),
            hidden: vec!["recipient.phone".into()],
            why: "answers recipients".into(),
            ..main()
        },
    ];
    for grant in grants {
        let _: GrantListed = client.post("/api/grants", &grant).await?;
    }
    Ok(())
}
