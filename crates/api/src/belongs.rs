//! Which of several services must answer a request: most are answered by any of them, out of the records and the vault.
//! What one has in its memory, at its readers or in its data folder is asked of that one.

/// What a request is about that only one service has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Belongs {
    /// Nothing: each service can answer.
    Anywhere,
    /// The slot that its path names.
    SlotInPath,
    /// The slot that its body names.
    SlotInBody,
    /// The plan that its path names.
    PlanInPath,
    /// The upload that its path names.
    UploadInPath,
    /// The upload that its body names, if it does.
    UploadInBody,
    /// The bench that its query names: the readers of a service's own computer where it names none.
    BenchInQuery,
    /// The bench that its path names.
    BenchInPath,
    /// The bench that shows its credential.
    BenchLine,
    /// The job that its path names.
    JobInPath,
    /// What the two contents differ in that its query names: whoever compared them knows.
    Comparison,
    /// The packed file of the release that its path names, where that was kept.
    Original,
    /// What is there once for all services: the one that leads has it.
    Leader,
}

/// What a route is about that only one service has, by its method and its path as in the OpenAPI document.
pub fn belongs(method: &str, path: &str) -> Belongs {
    let path = path.strip_prefix("/api/v1/").unwrap_or(path);
    let reads = method.eq_ignore_ascii_case("get");
    match path.split('/').collect::<Vec<_>>()[..] {
        ["slots", "{slot}", ..] => Belongs::SlotInPath,
        ["plans" | "card-plans" | "backups" | "drift"] if !reads => Belongs::SlotInBody,
        ["plans", "{id}", ..] => Belongs::PlanInPath,
        ["uploads", "{id}"] => Belongs::UploadInPath,
        ["releases" | "backup-images"] if !reads => Belongs::UploadInBody,
        ["bench"] | ["bench", "slots"] => Belongs::BenchInQuery,
        ["benches", "{name}"] => Belongs::BenchInPath,
        ["bench-line"] => Belongs::BenchLine,
        ["jobs", "{id}", "cancel"] => Belongs::JobInPath,
        ["releases", "{name}", "original"] => Belongs::Original,
        ["comparison"] if reads => Belongs::Comparison,
        ["arrivals", ..] | ["hello"] | ["serial-ports"] | ["devices", "{name}", "arrival"] => {
            Belongs::Leader
        }
        ["vault", ..] if !reads => Belongs::Leader,
        _ => Belongs::Anywhere,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ACCESS;

    #[test]
    fn what_a_path_names_that_only_one_service_has_is_asked_of_that_one() {
        for one in ACCESS {
            let found = belongs(one.method, one.path);
            let wanted = [
                ("{slot}", Belongs::SlotInPath),
                ("/plans/{id}", Belongs::PlanInPath),
                ("/uploads/{id}", Belongs::UploadInPath),
                ("/cancel", Belongs::JobInPath),
                ("/original", Belongs::Original),
                ("/arrivals", Belongs::Leader),
                ("/bench-line", Belongs::BenchLine),
            ];
            for (part, wanted) in wanted {
                if one.path.contains(part) {
                    assert_eq!(found, wanted, "{} {}", one.method, one.path);
                }
            }
        }
        assert_eq!(belongs("POST", "/api/v1/plans"), Belongs::SlotInBody);
        assert_eq!(belongs("get", "/api/v1/vault"), Belongs::Anywhere);
        assert_eq!(belongs("post", "/api/v1/vault/tidyings"), Belongs::Leader);
        assert_eq!(belongs("get", "/api/v1/backups"), Belongs::Anywhere);
        assert_eq!(belongs("post", "/api/v1/backups"), Belongs::SlotInBody);
        assert_eq!(belongs("post", "/api/v1/sign-in"), Belongs::Anywhere);
    }
}
