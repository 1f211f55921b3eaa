//! The configuration: a TOML file with the user's own loads.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::Deserialize;
use yard_step_engine::load::{ManualLoad, OutsideSpec};
use yard_step_scenes::Scene;

use crate::failure::Failure;
use crate::input;

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Config {
    #[serde(default)]
    load: BTreeMap<String, OutsideSpec>,
}

/// The user's own loads, from the file that was named or the one in its usual place. Only a file
/// that was named must be there.
pub(crate) fn read(
    named: Option<&Path>,
    usual: Option<PathBuf>,
) -> Result<Vec<OutsideSpec>, Failure> {
    let Some(path) = named.map(Path::to_owned).or(usual) else { return Ok(Vec::new()) };
    let wrong = |cause: &dyn std::fmt::Display| {
        Failure::usage(format!("configuration {}: {cause}", path.display()))
    };
    if named.is_none() && !path.exists() {
        return Ok(Vec::new());
    }
    let text = input::text(&path).map_err(|error| wrong(&error))?;
    parse(&text).map_err(|cause| wrong(&cause))
}

fn parse(text: &str) -> Result<Vec<OutsideSpec>, String> {
    let config: Config = toml::from_str(text).map_err(|error| error.to_string())?;
    let mut loads = Vec::new();
    for (name, spec) in config.load {
        if name.parse::<Scene>().is_ok() || name == ManualLoad::NAME {
            return Err(format!(
                "load {name}: there is a load of that name already; choose another"
            ));
        }
        let spec = OutsideSpec { name, ..spec };
        spec.check().map_err(|error| error.to_string())?;
        loads.push(spec);
    }
    Ok(loads)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Verdict;

    #[test]
    fn a_load_is_read_with_all_that_is_said_of_it() {
        let loads = parse(
            "[load.harbour]\ncommand = \"harbour-bench\"\nargs = [\"--loop\"]\n\
             score = \"score: ([0-9.]+)\"\nseconds = 90\nsuccess = [0, 3]\n\
             [[load.harbour.failure]]\npattern = \"mismatch\"\n\
             [[load.harbour.failure]]\npattern = \"device\"\nverdict = \"load died\"\n\
             [load.quay]\ncommand = \"quay\"\nprotocol = true\n",
        )
        .unwrap();
        assert_eq!(
            loads.iter().map(|load| load.name.as_str()).collect::<Vec<_>>(),
            ["harbour", "quay"]
        );
        let verdicts: Vec<Verdict> = loads[0].failure.iter().map(|rule| rule.verdict).collect();
        assert_eq!(verdicts, [Verdict::Artifacts, Verdict::LoadDied]);
        assert!(loads[1].protocol && loads[1].success == [0]);
    }

    #[rstest]
    #[case("[load.kiln]\ncommand = \"x\"", "there is a load of that name already")]
    #[case("[load.manual]\ncommand = \"x\"", "there is a load of that name already")]
    #[case("[load.a]\ncommand = \" \"", "load a: command is empty")]
    #[case("[load.a]\ncommand = \"x\"\nscore = \"(\"", "load a: the pattern \"(\"")]
    #[case("[load.a]\ncommand = \"x\"\nscore = \"fps\"", "has no group")]
    #[case("[load.a]\ncommand = \"x\"\nseconds = -1", "seconds must be above 0")]
    #[case("[load.a]\ncommand = \"x\"\ncolour = 1", "unknown field `colour`")]
    #[case("[load.a]\nargs = []", "missing field `command`")]
    #[case(
        "[load.a]\ncommand = \"x\"\n[[load.a.failure]]\npattern = \"x\"\nverdict = \"bad\"",
        "unknown variant `bad`"
    )]
    #[case("loads = 1", "unknown field `loads`")]
    fn what_is_wrong_is_said(#[case] text: &str, #[case] told: &str) {
        let error = parse(text).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn a_file_that_was_named_must_be_there_and_the_usual_one_needs_not() {
        let missing = PathBuf::from("/nowhere/config.toml");
        assert!(read(None, Some(missing.clone())).unwrap().is_empty());
        assert!(read(Some(&missing), None).unwrap_err().text().contains("/nowhere/config.toml"));
    }
}
