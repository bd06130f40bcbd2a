//! Which role each command takes: said in its help, and held complete by a test. What counts is what the service says.

use api::Role;
use clap::Command;

/// Noun and verbs, by the least role that does all that they can do.
const TAKES: &[(Option<Role>, &str, &str)] = &[
    (None, "", "sign-in welcome completions manual"),
    (None, "person", "me"),
    (LOOKER, "", "status sign-out"),
    (
        LOOKER,
        "release",
        "list show carriers files read export archive",
    ),
    (LOOKER, "feed", "list"),
    (LOOKER, "device", "export list outdated choices show"),
    (LOOKER, "preset", "list show networks"),
    (LOOKER, "settings", "preview"),
    (LOOKER, "bench", "list scan slots rule"),
    (LOOKER, "service", "list"),
    (LOOKER, "slot", "list"),
    (LOOKER, "card", "list show lots files"),
    (LOOKER, "round", "list show watch report"),
    (LOOKER, "arrival", "list show watch log"),
    (LOOKER, "export", "list"),
    (LOOKER, "backup", "list show headroom files"),
    (LOOKER, "vault", "show list"),
    (LOOKER, "job", "list show"),
    (LOOKER, "board", "list"),
    (LOOKER, "site", "list"),
    (LOOKER, "notice", "list told matters"),
    (LOOKER, "person", "list password pin"),
    (LOOKER, "pass", "list make end"),
    (BENCH, "", "write restore"),
    (BENCH, "release", "note compare"),
    (BENCH, "device", "out back down fault photo"),
    (BENCH, "slot", "release"),
    (
        BENCH,
        "card",
        "read note lost retire found origin check clear put-back copy this-is trust free fault compare",
    ),
    (
        BENCH,
        "round",
        "plan begin pause go-on accept stop skip again free",
    ),
    (
        BENCH,
        "arrival",
        "expect lamp at hand-over listen hang-up step accept refuse stop",
    ),
    (BENCH, "export", "take read compare give"),
    (
        BENCH,
        "backup",
        "take bring-in assign reason pin unpin prove read export archive compare versions",
    ),
    (BENCH, "job", "seen cancel"),
    (KEEPER, "release", "add sheet state current"),
    (KEEPER, "feed", "follow look give-up"),
    (
        KEEPER,
        "device",
        "add set network describe fact import change retire follow",
    ),
    (KEEPER, "preset", "add set network rename remove"),
    (KEEPER, "backup", "every"),
    (KEEPER, "vault", "inspect tidy copy keep-records"),
    (KEEPER, "board", "add"),
    (KEEPER, "site", "add rename"),
    (KEEPER, "history", "list export check"),
    (OWNER, "release", "remove"),
    (OWNER, "device", "remove"),
    (OWNER, "bench", "add code remove bind adopt unbind"),
    (OWNER, "notice", "mail call try remove"),
    (OWNER, "backup", "let-go keep"),
    (OWNER, "vault", "reindex rekey"),
    (OWNER, "person", "add invite role remove"),
];

const LOOKER: Option<Role> = Some(Role::Looker);
const BENCH: Option<Role> = Some(Role::BenchHand);
const KEEPER: Option<Role> = Some(Role::Keeper);
const OWNER: Option<Role> = Some(Role::Owner);

/// The role that a command takes, if it stands in the table.
fn takes(noun: &str, verb: &str) -> Option<Option<Role>> {
    let of = |(_, one, verbs): &&(Option<Role>, &str, &str)| {
        *one == noun && verbs.split(' ').any(|one| one == verb)
    };
    TAKES.iter().find(of).map(|(role, ..)| *role)
}

/// The same commands, whose help says which role they take.
pub fn told(command: Command) -> Command {
    let of = |noun: String, command: Command| {
        let takes = takes(&noun, command.get_name()).flatten();
        match takes {
            Some(role) => command.after_help(format!("Takes {}.", role.one())),
            None => command,
        }
    };
    command.mut_subcommands(|command| match command.has_subcommands() {
        false => of(String::new(), command),
        true => {
            let noun = command.get_name().to_owned();
            command.mut_subcommands(|command| of(noun.clone(), command))
        }
    })
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn every_command_stands_in_the_table_once_and_nothing_else_does() {
        let commands = crate::Args::command();
        let mut all = Vec::new();
        for command in commands.get_subcommands() {
            match command.has_subcommands() {
                false => all.push((String::new(), command.get_name().to_owned())),
                true => {
                    let verbs = command.get_subcommands();
                    all.extend(
                        verbs.map(|verb| {
                            (command.get_name().to_owned(), verb.get_name().to_owned())
                        }),
                    );
                }
            }
        }
        all.sort();
        let mut table: Vec<_> = TAKES
            .iter()
            .flat_map(|(_, noun, verbs)| {
                verbs
                    .split(' ')
                    .map(|verb| ((*noun).to_owned(), verb.to_owned()))
            })
            .collect();
        table.sort();
        assert_eq!(table, all);
    }

    #[test]
    fn the_help_of_a_command_says_what_it_takes() {
        let mut commands = told(crate::Args::command());
        let command = commands.find_subcommand_mut("backup").unwrap();
        let help = command
            .find_subcommand_mut("let-go")
            .unwrap()
            .render_help()
            .to_string();
        assert!(help.contains("Takes an owner."), "{help}");
    }
}
