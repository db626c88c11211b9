//! Members, invitations and teams over the API.

use chrono::Utc;
use clap::{Subcommand, ValueEnum};
use outcrop_api::{
    InvitationList, MadeInvitation, MemberItem, MemberList, MemberRole, NewInvitation, NewRole, NewTeam, ServiceLimit,
    TeamChange, TeamItem, TeamList,
};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{Column, Fit, json, line, since, table, time};

/// A role, as it is written.
#[derive(Clone, Copy, ValueEnum)]
pub enum RoleWord {
    Viewer,
    Engineer,
    Admin,
}

impl From<RoleWord> for MemberRole {
    fn from(word: RoleWord) -> Self {
        match word {
            RoleWord::Viewer => Self::Viewer,
            RoleWord::Engineer => Self::Engineer,
            RoleWord::Admin => Self::Admin,
        }
    }
}

#[derive(Subcommand)]
pub enum MemberCommand {
    /// List members with their roles and teams, and who was invited.
    List,
    /// Invite somebody; prints only the link, where they choose a password. By an admin's token.
    #[command(
        after_help = "Examples:\n  outcrop member invite mate@skerry.example --role engineer --team 'deck team'\n  \
            outcrop member invite cook@skerry.example --days 1"
    )]
    Invite {
        /// The address they will sign in with.
        email: String,
        /// What they may do.
        #[arg(long, value_enum, default_value = "engineer")]
        role: RoleWord,
        /// A team they will be in; may be given several times.
        #[arg(long = "team", value_name = "TEAM")]
        teams: Vec<String>,
        /// After how many days the link expires.
        #[arg(long, value_name = "N", default_value_t = 7, value_parser = clap::value_parser!(u32).range(1..=30))]
        days: u32,
    },
    /// Take an invitation back, by the address it is for.
    #[command(after_help = "Example:\n  outcrop member withdraw mate@skerry.example")]
    Withdraw {
        /// The address.
        email: String,
    },
    /// Give a member another role; it holds at once.
    #[command(after_help = "Example:\n  outcrop member role mate@skerry.example admin")]
    Role {
        /// The member's address.
        email: String,
        /// The role.
        #[arg(value_enum)]
        role: RoleWord,
    },
    /// End all sessions of a member and revoke all their tokens: for a machine that was lost.
    #[command(after_help = "Example:\n  outcrop member end-sessions mate@skerry.example")]
    EndSessions {
        /// The member's address.
        email: String,
    },
    /// Remove a member with their tokens and sessions; what they did stays under their address.
    Remove {
        /// The member's address.
        email: String,
    },
}

#[derive(Subcommand)]
pub enum TeamCommand {
    /// List teams with their members and services, and the services that only their teams may read.
    List,
    /// Make a team. By an admin's token.
    #[command(
        after_help = "Examples:\n  outcrop team make 'deck team'\n  outcrop team make 'deck team' --member \
            mate@skerry.example --service boarding --service stowage"
    )]
    Make {
        /// Its name.
        name: String,
        /// The address of a member of it; may be given several times.
        #[arg(long = "member", value_name = "EMAIL")]
        members: Vec<String>,
        /// A service it owns; may be given several times.
        #[arg(long = "service", value_name = "S")]
        services: Vec<String>,
    },
    /// Put members and services into a team, or take them out.
    #[command(
        after_help = "Examples:\n  outcrop team change 'deck team' --add mate@skerry.example --add boarding\n  outcrop \
            team change 'deck team' --take-out mate@skerry.example"
    )]
    Change {
        /// Its name.
        name: String,
        /// A member's address, or a service, to put in; may be given several times.
        #[arg(long, value_name = "WHO_OR_WHAT")]
        add: Vec<String>,
        /// A member's address, or a service, to take out; may be given several times.
        #[arg(long, value_name = "WHO_OR_WHAT")]
        take_out: Vec<String>,
    },
    /// Remove a team; its members stay.
    Remove {
        /// Its name.
        name: String,
    },
    /// Have only its teams and admins read a service: it is not there for others, and its spans are closed boxes.
    #[command(after_help = "Examples:\n  outcrop team limit ledger\n  outcrop team limit ledger --open")]
    Limit {
        /// The service.
        service: String,
        /// Let all members read it again.
        #[arg(long)]
        open: bool,
    },
}

pub async fn member(command: MemberCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        MemberCommand::List => members(&api, &client).await,
        MemberCommand::Invite {
            email,
            role,
            teams,
            days,
        } => {
            let asked = NewInvitation {
                email,
                role: role.into(),
                teams,
                days: Some(days),
            };
            let mut made: MadeInvitation = api.post("/invitations", &[], &asked).await?;
            if made.link.starts_with('/') {
                made.link = format!("{}{}", api.url(), made.link);
            }
            if client.json { json(&made) } else { line(&made.link) }
        }
        MemberCommand::Withdraw { email } => {
            let open: InvitationList = api.get("/invitations", &[]).await?;
            let found = open.items.iter().find(|item| item.email.eq_ignore_ascii_case(&email));
            let id = found
                .ok_or_else(|| Fault::Refused(format!("nobody of that address is invited: {email}")))?
                .id;
            api.send(Method::DELETE, &format!("/invitations/{id}"), None::<&()>)
                .await?;
            line(printable(&format!("the invitation of {email} is good no more")))
        }
        MemberCommand::Role { email, role } => {
            let role = MemberRole::from(role);
            let path = format!("/members/{}", segment(&email));
            api.send(Method::PUT, &path, Some(&NewRole { role })).await?;
            line(printable(&format!("{email} is {} now", role.word())))
        }
        MemberCommand::EndSessions { email } => {
            let path = format!("/members/{}/sessions", segment(&email));
            api.send(Method::DELETE, &path, None::<&()>).await?;
            line(printable(&format!("{email} has no session and no token any more")))
        }
        MemberCommand::Remove { email } => {
            api.send(Method::DELETE, &format!("/members/{}", segment(&email)), None::<&()>)
                .await?;
            line(printable(&format!(
                "{email} is no member any more; what they did stays"
            )))
        }
    }
}

async fn members(api: &Api, client: &Client) -> Result<(), Fault> {
    let list: MemberList = api.get("/members", &[]).await?;
    if client.json {
        return json(&list);
    }
    let columns = [
        Column("member", Fit::Text(16)),
        Column("role", Fit::Whole),
        Column("teams", Fit::Text(12)),
        Column("here since", Fit::Whole),
        Column("last here", Fit::Whole),
    ];
    table(&columns, list.items.into_iter().map(row))?;
    // For admins alone; others are not told who was invited.
    if let Ok(open) = api.get::<InvitationList>("/invitations", &[]).await {
        for item in open.items {
            line(printable(&format!(
                "Invited: {} as {}, by {}, until {}",
                item.email,
                item.role,
                item.by,
                time(item.expires_at)
            )))?;
        }
    }
    Ok(())
}

fn row(member: MemberItem) -> Vec<String> {
    let now = Utc::now();
    vec![
        member.email,
        member.role,
        member.teams.join(", "),
        time(member.created_at),
        member.last_used_at.map_or_else(|| "-".to_owned(), |at| since(at, now)),
    ]
}

pub async fn team(command: TeamCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        TeamCommand::List => {
            let list: TeamList = api.get("/teams", &[]).await?;
            if client.json { json(&list) } else { show(list) }
        }
        TeamCommand::Make {
            name,
            members,
            services,
        } => {
            api.send(Method::POST, "/teams", Some(&NewTeam { name: name.clone() }))
                .await?;
            if !members.is_empty() || !services.is_empty() {
                let change = TeamChange {
                    members: (!members.is_empty()).then_some(members),
                    services: (!services.is_empty()).then_some(services),
                };
                set(&api, &name, &change).await?;
            }
            line(printable(&format!("{name} is a team now")))
        }
        TeamCommand::Change { name, add, take_out } => {
            let list: TeamList = api.get("/teams", &[]).await?;
            let found = list
                .items
                .into_iter()
                .find(|team| team.name.eq_ignore_ascii_case(&name));
            let team = found.ok_or_else(|| Fault::Refused(format!("there is no team `{name}`")))?;
            let changed = changed(team, &add, &take_out);
            set(&api, &name, &changed).await?;
            line(printable(&format!(
                "{name}: {}; owns {}",
                changed.members.unwrap_or_default().join(", "),
                changed.services.unwrap_or_default().join(", ")
            )))
        }
        TeamCommand::Remove { name } => {
            api.send(Method::DELETE, &format!("/teams/{}", segment(&name)), None::<&()>)
                .await?;
            line(printable(&format!("{name} is no team any more; its members stay")))
        }
        TeamCommand::Limit { service, open } => {
            let path = format!("/services/{}/limit", segment(&service));
            api.send(Method::PUT, &path, Some(&ServiceLimit { limited: !open }))
                .await?;
            let said = if open {
                format!("{service} is read by all members")
            } else {
                format!("{service} is read by its teams and admins only")
            };
            line(printable(&said))
        }
    }
}

async fn set(api: &Api, name: &str, change: &TeamChange) -> Result<(), Fault> {
    api.send(Method::PUT, &format!("/teams/{}", segment(name)), Some(change))
        .await
}

/// A team with names put in and taken out: what holds an @ is a member's address, all else a service.
fn changed(team: TeamItem, add: &[String], take_out: &[String]) -> TeamChange {
    let with = |names: Vec<String>, are_members: bool| -> Vec<String> {
        let mut names: Vec<String> = names.into_iter().filter(|name| !take_out.contains(name)).collect();
        for name in add.iter().filter(|name| name.contains('@') == are_members) {
            if !names.contains(name) {
                names.push(name.clone());
            }
        }
        names
    };
    TeamChange {
        members: Some(with(team.members, true)),
        services: Some(with(team.services, false)),
    }
}

fn show(list: TeamList) -> Result<(), Fault> {
    if list.items.is_empty() {
        return line("There is no team yet. Make one: outcrop team make NAME");
    }
    let columns = [
        Column("team", Fit::Text(10)),
        Column("members", Fit::Text(16)),
        Column("services", Fit::Text(16)),
    ];
    let rows = list
        .items
        .into_iter()
        .map(|team| vec![team.name, team.members.join(", "), team.services.join(", ")]);
    table(&columns, rows)?;
    match list.limited.as_slice() {
        [] => Ok(()),
        limited => line(printable(&format!(
            "Read by their teams and admins only: {}",
            limited.join(", ")
        ))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_holds_an_at_is_a_member_and_names_stand_once() {
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let team = TeamItem {
            name: "deck team".to_owned(),
            members: names(&["mate@skerry.example", "cook@skerry.example"]),
            services: names(&["boarding"]),
        };
        let add = names(&["boarding", "stowage", "purser@skerry.example"]);
        let change = changed(team, &add, &names(&["cook@skerry.example"]));
        assert_eq!(
            change.members.unwrap(),
            ["mate@skerry.example", "purser@skerry.example"]
        );
        assert_eq!(change.services.unwrap(), ["boarding", "stowage"]);
    }
}
