//! Tokens: of people and of teams, with a purpose, an end, and lanes.

use super::admin::check_name;
use super::senders::{moment, seconds};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use calvex_language::domain::access::{NewToken as StoredToken, Purpose, SecretKind, Token};
use calvex_node::auth::secrets::new_secret;
use calvex_node::auth::{Editor, Reader};
use calvex_node::error::{Result, ServiceError};
use calvex_node::http::ask::Ask;
use calvex_node::state::Auth;
use calvex_store::StoreError;
use calvex_wire::api::{MadeSecret, NewToken, TokenListed};
use std::sync::Arc;

/// `GET /api/tokens`: one's own, and those of one's teams; all for an administrator.
pub async fn tokens(State(auth): State<Arc<Auth>>, reader: Reader) -> Result<Json<Vec<TokenListed>>> {
    let seen = |(_, maker, team): &(Token, u32, Option<u32>)| reader.who.administers || reader.who.owns(*maker, *team);
    let reported = |(t, ..): (Token, u32, Option<u32>)| TokenListed {
        name: t.name,
        prefix: t.prefix,
        purpose: t.purpose.name().to_owned(),
        owner: t.owner,
        until: t.ends_ns.map(seconds),
        created: seconds(t.created_ns),
        revoked: t.revoked_ns.map(seconds),
    };
    Ok(Json(auth.base.store.tokens().await?.into_iter().filter(seen).map(reported).collect()))
}

/// `POST /api/tokens`: a token of the one who asks, or of a team of theirs. It never does more than they.
pub async fn add_token(
    State(auth): State<Arc<Auth>>,
    Editor(reader): Editor,
    Ask(ask): Ask<NewToken>,
) -> Result<Json<MadeSecret>> {
    check_name(&ask.name)?;
    let lanes = auth.base.config.get().ids_of(&ask.lanes)?;
    let lanes = (!lanes.is_empty()).then_some(lanes.as_slice());
    let purpose = match ask.purpose.as_deref() {
        None => Purpose::Read,
        Some(name) => Purpose::from_name(name).ok_or_else(|| {
            ServiceError::BadRequest(format!("`{name}` is no purpose of a token; use read, configure or administer"))
        })?,
    };
    if lanes.is_some() && purpose != Purpose::Read {
        return Err(ServiceError::BadRequest(
            "a token for some lanes only reads; leave out the lanes, or the purpose".into(),
        ));
    }
    let team = match ask.team.as_deref().filter(|team| !team.is_empty()) {
        // Of a team that one is in, also where one administers: a team's token reads what the team reads.
        Some(name) => {
            let id = auth.base.store.team_id(name).await?;
            let own = reader.who.teams.contains(&id);
            let yours =
                || ServiceError::NotAllowed(format!("you are not in the team `{name}`; its people make its tokens"));
            Some(own.then_some(id).ok_or_else(yours)?)
        }
        None => reader.who.team,
    };
    if team.is_some() && purpose == Purpose::Administer {
        return Err(ServiceError::BadRequest(
            "a team administers nothing; make a token of your own, or use configure".into(),
        ));
    }
    let ends_ns = ask.until.as_deref().filter(|text| !text.is_empty()).map(moment).transpose()?;
    if ends_ns.is_some_and(|ends_ns| ends_ns <= (auth.base.clock)()) {
        return Err(ServiceError::BadRequest("`until` has passed; give a time to come".into()));
    }
    let (secret, hash, prefix) = new_secret("token", rand::random());
    let act = reader.act(&auth.base, "add token", serde_json::to_string(&ask).unwrap_or_default());
    let user_id = reader.who.user_id;
    let token = StoredToken { name: &ask.name, hash, prefix: &prefix, user_id, team, lanes, purpose, ends_ns };
    auth.base.store.add_token(&token, &act).await?;
    auth.readers.clear();
    Ok(Json(MadeSecret { name: ask.name, secret }))
}

/// `DELETE /api/tokens/{name}`
pub async fn revoke_token(
    State(auth): State<Arc<Auth>>,
    Editor(reader): Editor,
    Path(name): Path<String>,
) -> Result<StatusCode> {
    let known = auth.base.store.tokens().await?.into_iter().find(|(token, ..)| token.name == name);
    if !reader.who.administers && !known.is_some_and(|(_, maker, team)| reader.who.owns(maker, team)) {
        return Err(StoreError::Missing(format!("token `{name}` in use")).into());
    }
    let now_ns = (auth.base.clock)();
    auth.base
        .store
        .revoke(SecretKind::Token, &name, now_ns, &reader.act(&auth.base, "revoke token", name.clone()))
        .await?;
    auth.readers.clear();
    Ok(StatusCode::NO_CONTENT)
}
