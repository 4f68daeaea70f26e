//! People, as an administrator looks after them: added, changed, disabled, given a code to set a password by. And what
//! everybody does alone: change the own password, see and end the own sessions.

use super::admin::check_name;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use calvex_language::domain::access::{PersonChange, Role};
use calvex_language::domain::grant::May;
use calvex_language::model::time::format_utc;
use calvex_node::auth::passwords;
use calvex_node::auth::peer::Peer;
use calvex_node::auth::secrets::{NO_PASSWORD, hash_password, hash_secret, new_secret, verify_password};
use calvex_node::auth::{Admin, Editor, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::Auth;
use calvex_wire::api::{ChangePassword, ChangePerson, NewPerson, PasswordCode, PersonListed, Redeem, SessionListed};
use std::net::IpAddr;
use std::sync::Arc;

/// How long a code to set a password by is good.
const CODE_NS: i64 = 86_400 * 1_000_000_000;
/// People at most.
const MAX_PEOPLE: i64 = 10_000;

/// `GET /api/people`
pub async fn people(State(auth): State<Arc<Auth>>, _admin: Admin) -> Result<Json<Vec<PersonListed>>> {
    let config = auth.base.config.get();
    let listed = auth.base.store.people((auth.base.clock)()).await?.into_iter().map(|person| PersonListed {
        lanes: person.lanes.iter().filter_map(|lane| Some(config.lane(*lane)?.name.clone())).collect(),
        name: person.name,
        role: person.role.name().to_owned(),
        teams: person.teams,
        by_provider: person.by_provider,
        created: format_utc(person.created_ns, 3),
        disabled: person.disabled_ns.map(|ns| format_utc(ns, 3)),
        sessions: person.sessions,
        seen: person.seen_ns.map(|ns| format_utc(ns, 3)),
    });
    Ok(Json(listed.collect()))
}

fn role_of(name: &str) -> Result<Role> {
    let reported = || ServiceError::BadRequest(format!("role `{name}` is not known; use admin, auditor or reader"));
    Role::from_name(name).ok_or_else(reported)
}

/// `POST /api/people`
pub async fn add_person(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Ask(ask): Ask<NewPerson>,
) -> Result<Json<PasswordCode>> {
    check_name(&ask.name)?;
    let (role, lanes) = (role_of(&ask.role)?, auth.base.config.get().ids_of(&ask.lanes)?);
    if let Some((_, name)) = lanes.iter().zip(&ask.lanes).find(|(lane, _)| !admin.may(**lane, May::Manage)) {
        return Err(ServiceError::NotAllowed(format!(
            "`{name}` is not yours to share; whoever manages it gives the grant"
        )));
    }
    if auth.base.store.user_count().await? >= MAX_PEOPLE {
        return Err(ServiceError::BadRequest(format!("there are {MAX_PEOPLE} people already, and no room for more")));
    }
    let is_set = ask.password.is_some();
    let hash = match ask.password {
        Some(password) => {
            passwords::check(&password, &ask.name)?;
            auth.sign_ins.hash(&auth.behind, move || hash_password(&password)).await??
        }
        None => NO_PASSWORD.to_owned(),
    };
    let act = admin.act(&auth.base, "add person", format!("{}, {}", ask.name, ask.role));
    auth.base.store.add_user(&ask.name, &hash, role, (May::Read, &lanes), &act).await?;
    match is_set {
        true => Ok(Json(PasswordCode { name: ask.name, code: None, until: None })),
        false => Ok(Json(new_code(&auth, &admin, ask.name).await?)),
    }
}

async fn new_code(auth: &Auth, admin: &Reader, name: String) -> Result<PasswordCode> {
    let (code, hash, _) = new_secret("code", rand::random());
    let act = admin.act(&auth.base, "make password code", name.clone());
    let ends_ns = act.at_ns + CODE_NS;
    auth.base.store.put_password_code(&name, &hash, ends_ns, &act).await?;
    Ok(PasswordCode { name, code: Some(code), until: Some(format_utc(ends_ns, 3)) })
}

/// `PUT /api/people/{name}`
pub async fn change_person(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
    Ask(ask): Ask<ChangePerson>,
) -> Result<StatusCode> {
    let mut what = vec![name.clone()];
    if ask.role.is_none() && ask.disabled.is_none() {
        return Err(ServiceError::BadRequest("nothing is changed; give a role or `disabled`".into()));
    }
    what.extend(ask.role.as_ref().map(|role| format!("role {role}")));
    what.extend(ask.disabled.map(|disabled| if disabled { "disabled".to_owned() } else { "enabled".to_owned() }));
    let change = PersonChange { role: ask.role.as_deref().map(role_of).transpose()?, disabled: ask.disabled };
    let mut act = admin.act(&auth.base, "change person", what.join(", "));
    let known = auth.base.store.user(&name).await?;
    act.before = known.map(|known| format!("role {}, disabled {}", known.role.name(), known.disabled_ns.is_some()));
    auth.base.store.change_person(&name, &change, &act).await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/people/{name}/code`
pub async fn make_code(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<Json<PasswordCode>> {
    Ok(Json(new_code(&auth, &admin, name).await?))
}

/// `DELETE /api/people/{name}/sessions`
pub async fn end_sessions_of(
    State(auth): State<Arc<Auth>>,
    Admin(admin): Admin,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    let act = admin.act(&auth.base, "end sessions", name.clone());
    auth.base.store.end_sessions_of(&name, &act).await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/redeem`: for nobody in particular; who has the code is the person.
pub async fn redeem(State(auth): State<Arc<Auth>>, Peer(from): Peer, Ask(ask): Ask<Redeem>) -> Result<StatusCode> {
    let redeemed = set_by_code(&auth, from, ask).await;
    if matches!(redeemed, Err(ServiceError::NotSignedIn(_))) {
        auth.strangers.refused().await;
        auth.base.store.audit(&auth.base.act("unknown", "code refused", format!("from {from}"))).await?;
    }
    redeemed
}

async fn set_by_code(auth: &Arc<Auth>, from: IpAddr, ask: Redeem) -> Result<StatusCode> {
    let unknown = || {
        let reported = "this code is not known, or was used, or has ended; ask an administrator for another one";
        ServiceError::NotSignedIn(reported.into())
    };
    auth.sign_ins.begin_from(from)?;
    let code = hash_secret(&ask.code);
    let now_ns = (auth.base.clock)();
    // Before anything is hashed: that takes long, and would be done for everybody.
    let name = auth.base.store.person_of_code(&code, now_ns).await?.ok_or_else(unknown)?;
    passwords::check(&ask.password, &name)?;
    let hash = auth.sign_ins.hash(&auth.behind, move || hash_password(&ask.password)).await??;
    let act = auth.base.act(&name, "set password by code", format!("from {from}"));
    if !auth.base.store.use_password_code(&code, &hash, &act).await? {
        return Err(unknown());
    }
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `POST /api/me/password`
pub async fn change_password(
    State(auth): State<Arc<Auth>>,
    Peer(from): Peer,
    Editor(reader): Editor,
    Ask(ask): Ask<ChangePassword>,
) -> Result<StatusCode> {
    let by_token = || ServiceError::NotAllowed("a token changes no password; sign in by name".into());
    let session = reader.session().ok_or_else(by_token)?;
    // Whoever found an open session must not guess the password by it.
    auth.sign_ins.begin_from(from)?;
    let weight = auth.base.store.name_weight(&reader.who.name).await?;
    auth.sign_ins.begin(&weight, from)?;
    let known = auth.base.store.user(&reader.who.name).await?.map_or_else(String::new, |user| user.password_hash);
    let ChangePassword { password, new_password } = ask;
    passwords::check(&new_password, &reader.who.name)?;
    if !auth.sign_ins.hash(&auth.behind, move || verify_password(&password, &known)).await? {
        let act = reader.act(&auth.base, "change of password refused", format!("from {from}"));
        auth.base.store.audit(&act).await?;
        return Err(ServiceError::NotAllowed("this is not your password; the new one was not set".into()));
    }
    auth.sign_ins.succeeded(&weight, from);
    let hash = auth.sign_ins.hash(&auth.behind, move || hash_password(&new_password)).await??;
    let act = reader.act(&auth.base, "change password", "");
    auth.base.store.change_password(reader.who.user_id, &hash, &session, &act).await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}

/// `GET /api/me/sessions`
pub async fn sessions(State(auth): State<Arc<Auth>>, reader: Reader) -> Result<Json<Vec<SessionListed>>> {
    let by_token = || ServiceError::NotAllowed("a token shows no sessions; sign in by name".into());
    let own = reader.session().ok_or_else(by_token)?;
    let sessions = auth.base.store.sessions_of(reader.who.user_id, (auth.base.clock)()).await?;
    let listed = sessions.into_iter().map(|session| SessionListed {
        id: session.id,
        begun: format_utc(session.begun_ns, 3),
        seen: format_utc(session.seen_ns, 3),
        until: format_utc(session.ends_ns, 3),
        address: session.address,
        own: own == session.hash,
    });
    Ok(Json(listed.collect()))
}

/// `DELETE /api/me/sessions/{id}`
pub async fn end_session(
    State(auth): State<Arc<Auth>>,
    Editor(reader): Editor,
    Path(id): Path<u64>,
) -> Result<StatusCode> {
    let act = reader.act(&auth.base, "end session", id.to_string());
    auth.base.store.end_session_of(reader.who.user_id, id, &act).await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}
