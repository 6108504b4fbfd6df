//! "Did you mean": the known name that is nearest to a wrong one.

/// The nearest of `known` to `word`, when it is near enough to be meant.
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = word.to_lowercase();
    known
        .into_iter()
        .map(|name| (score(&wanted, &name.to_lowercase()), name))
        .filter(|(score, _)| *score >= 0.72)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}

fn score(wanted: &str, name: &str) -> f64 {
    let squeezed = |s: &str| s.replace(['_', ' ', '-'], "");
    if squeezed(wanted) == squeezed(name) {
        return 2.0;
    }
    // Plurals and prefixes are the commonest slips after swapped letters.
    let longest = wanted.chars().count().max(name.chars().count()).max(1);
    let edits = strsim::damerau_levenshtein(wanted, name);
    let by_edits = 1.0 - edits as f64 / longest as f64;
    let near_word = if edits <= 1 && longest >= 3 { 0.9 } else { 0.0 };
    let prefix =
        if wanted.len() >= 3 && (name.starts_with(wanted) || wanted.starts_with(name)) { 0.75 } else { 0.0 };
    by_edits.max(prefix).max(near_word)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names() {
        let known = ["keeper_id", "name", "region", "email", "phone"];
        for (word, meant) in [
            ("regoin", Some("region")),
            ("keeperid", Some("keeper_id")),
            ("emails", Some("email")),
            ("Nmae", Some("name")),
            ("colour", None),
            ("x", None),
        ] {
            assert_eq!(nearest(word, known), meant, "{word}");
        }
    }
}
