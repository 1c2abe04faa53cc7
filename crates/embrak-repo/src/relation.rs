//! Relationship fields of Debian packages (Debian Policy chapter 7) as our requirements.
//!
//! `libc6 (>= 2.36), default-mta | mail-transport-agent, python3:any`. Qualifiers: `:any` asks for a package that
//! says of itself that any architecture of it will do; such packages provide `NAME:any`. `:native` and the image's
//! own architecture mean nothing here. Another architecture cannot be met in an image of one architecture, so
//! the qualifier stays part of the name and nothing has it. In an index, what does not parse is left out of the
//! package's relations only if it is empty; anything else becomes a requirement nothing meets, so that the
//! package cannot be chosen by mistake.

use embrak_resolve::{Alternatives, Operator, Requirement, Version};

/// Reads one field, or several joined by commas.
pub fn parse_relations(text: &str, architecture: &str) -> Vec<Alternatives> {
    text.split(',')
        .map(str::trim)
        .filter(|part| !part.is_empty())
        .map(|part| Alternatives(part.split('|').map(|one| parse_relation(one.trim(), architecture)).collect()))
        .collect()
}

fn parse_relation(text: &str, architecture: &str) -> Requirement {
    let unmet = || Requirement { name: format!("{text} (not understood)"), bounds: Vec::new() };
    // Build profiles and architecture lists belong to sources; in an index of packages they say nothing.
    let text = text.split(['[', '<']).next().filter(|_| !text.contains('(')).unwrap_or(text).trim();
    let (name, bound) = match text.split_once('(') {
        Some((name, rest)) => match rest.split_once(')') {
            Some((bound, _)) => (name.trim(), Some(bound.trim())),
            None => return unmet(),
        },
        None => (text, None),
    };
    let name = match name.split_once(':') {
        Some((plain, "native")) => plain,
        Some((plain, qualifier)) if qualifier == architecture => plain,
        _ => name,
    };
    if name.is_empty() || name.contains(char::is_whitespace) {
        return unmet();
    }
    let Some(bound) = bound else { return Requirement::any(name) };
    let signs = [
        ("<<", Operator::Less),
        ("<=", Operator::AtMost),
        (">=", Operator::AtLeast),
        (">>", Operator::More),
        ("=", Operator::Equal),
        // Obsolete, but still in old packages: policy reads them as "or equal".
        ("<", Operator::AtMost),
        (">", Operator::AtLeast),
    ];
    let Some((sign, operator)) = signs.into_iter().find(|(sign, _)| bound.starts_with(sign)) else { return unmet() };
    match bound[sign.len()..].trim().parse::<Version>() {
        Ok(version) => Requirement { name: name.to_string(), bounds: vec![(operator, version)] },
        Err(_) => unmet(),
    }
}

/// Reads requirements in our own writing, one in a line; a line that is none is one nothing meets.
pub fn parse_requirements(text: &str) -> Vec<Alternatives> {
    let unmet = |line: &str| Alternatives(vec![Requirement::any(format!("{line} (not understood)"))]);
    text.lines().map(str::trim).filter(|l| !l.is_empty()).map(|l| l.parse().unwrap_or_else(|_| unmet(l))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(text: &str) -> Vec<String> {
        parse_relations(text, "amd64").iter().map(ToString::to_string).collect()
    }

    #[test]
    fn fields_as_they_are_written() {
        assert_eq!(
            told("libc6 (>= 2.36), default-mta | mail-transport-agent,\npython3:any, perl:native (>= 5), zlib1g:amd64"),
            ["libc6 >= 2.36", "default-mta | mail-transport-agent", "python3:any", "perl >= 5", "zlib1g"]
        );
        assert_eq!(told("a (<< 1~), b (>> 2), c (= 1:3-4), d(<=2)"), ["a < 1~", "b > 2", "c = 1:3-4", "d <= 2"]);
        assert!(told("").is_empty() && told(" , ").is_empty());
    }

    #[test]
    fn what_is_not_understood_is_never_met() {
        for text in ["a (>= )", "a (~ 1)", "a (>= 1", "a b", "(>= 1)", "a (>= -)"] {
            assert!(told(text)[0].contains("not understood"), "{text}: {:?}", told(text));
        }
        assert_eq!(told("libc6:i386"), ["libc6:i386"]);
        assert_eq!(parse_requirements("gauge >= 1\n\nA B\n").len(), 2);
    }
}
