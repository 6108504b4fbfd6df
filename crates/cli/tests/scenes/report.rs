//! Pages for a second person: whole in themselves, readable by everybody, with nothing in them that drives a browser.

use std::collections::BTreeMap;

use marktwice_testkit::Scene;

use crate::{demo, scene};

fn page(s: &Scene, name: &str) -> String {
    std::fs::read_to_string(s.path(name)).unwrap()
}

/// A change with a title, a reason, a check, and a trigger that writes another table.
const PRICE: &str = include_str!("../../../../demo/changes/price.sql");

/// The texts of all tags of a name, as far as they are no tags themselves.
fn tags<'p>(page: &'p str, name: &str) -> Vec<&'p str> {
    let open = format!("<{name}");
    let parts = page.split(open.as_str()).skip(1);
    parts
        .filter(|part| part.starts_with([' ', '>']))
        .filter_map(|part| part.split_once('>').map(|p| p.0))
        .collect()
}

/// That a page needs nothing and nobody, and is in order for those who hear it.
fn in_order(page: &str) {
    for outside in
        ["http:", "https:", "src=", "href=", "url(", "@import", "<script", "<link", "<iframe", "onload"]
    {
        assert!(!page.contains(outside), "{outside} in the page");
    }
    assert!(page.starts_with("<!doctype html>\n<html lang=\"en\">") && page.trim_end().ends_with("</html>"));
    assert!(page.contains("<meta charset=\"utf-8\">") && page.contains("width=device-width"));
    assert_eq!((tags(page, "h1").len(), tags(page, "main").len(), tags(page, "title").len()), (1, 1, 1));
    let mut before = 0;
    for heading in page.split("<h").skip(1).filter_map(|part| part.chars().next()?.to_digit(10)) {
        assert!(heading <= before + 1, "a heading {heading} stands under one of {before}");
        before = heading;
    }
    assert!(tags(page, "th").iter().all(|th| th.contains("scope=\"col\"") || th.contains("scope=\"row\"")));
    for svg in tags(page, "svg") {
        assert!(svg.contains("role=\"img\"") && svg.contains("aria-label=\""), "{svg}");
    }
    for tag in ["table", "section", "ul", "tr", "td", "th", "del", "ins", "figure", "pre", "p"] {
        assert_eq!(tags(page, tag).len(), page.matches(&format!("</{tag}>")).count(), "each {tag} is closed");
    }
    // What has changed is told by the elements themselves, and each id is there once.
    let mut ids: Vec<&str> = page.split(" id=\"").skip(1).filter_map(|part| part.split('"').next()).collect();
    let all = ids.len();
    ids.sort_unstable();
    ids.dedup();
    assert_eq!(ids.len(), all);
}

/// The relative luminance of a colour, as WCAG 2 defines it.
fn luminance(hex: &str) -> f64 {
    let full =
        if hex.len() == 4 { hex.chars().skip(1).flat_map(|c| [c, c]).collect() } else { hex[1..].to_owned() };
    let part = |at: usize| {
        let c = f64::from(u8::from_str_radix(&full[at..at + 2], 16).unwrap()) / 255.0;
        if c <= 0.04045 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
    };
    0.2126 * part(0) + 0.7152 * part(2) + 0.0722 * part(4)
}

#[test]
fn every_text_stands_out_from_its_ground() {
    let s = demo();
    s.run(
        &["preview", "--sql", "UPDATE keeper SET region = 'Moor' WHERE keeper_id = 3", "--html"]
            .as_slice()
            .iter()
            .chain(&[s.path("a.html").to_str().unwrap()])
            .copied()
            .collect::<Vec<_>>(),
    )
    .expect(0);
    let page = page(&s, "a.html");
    let mut seen = 0;
    for theme in page.split(":root {").skip(1) {
        let theme = theme.split('}').next().unwrap();
        let colours: BTreeMap<&str, &str> =
            theme.split(';').filter_map(|one| one.trim().strip_prefix("--")?.split_once(": ")).collect();
        for (text, ground) in [
            ("ink", "ground"),
            ("ink", "sheet"),
            ("ink", "head"),
            ("soft", "ground"),
            ("soft", "sheet"),
            ("soft", "head"),
            ("was", "was-ground"),
            ("is", "is-ground"),
            ("stop", "ground"),
            ("warn", "ground"),
        ] {
            let [Some(text_colour), Some(ground_colour)] = [text, ground].map(|name| colours.get(name))
            else {
                panic!("{text} or {ground}")
            };
            let (a, b) = (luminance(text_colour), luminance(ground_colour));
            let contrast = (a.max(b) + 0.05) / (a.min(b) + 0.05);
            // On paper everything is black on white; the softest grey is a caption's.
            assert!(contrast >= 4.5, "{text} on {ground}: {contrast:.2}");
        }
        seen += 1;
    }
    assert_eq!(seen, 3, "light, dark, and paper");
}

#[test]
fn a_change_from_its_preview_to_its_way_back() {
    let s = demo();
    let file = |name: &str| s.path(name).display().to_string();
    s.write("price.sql", PRICE);
    s.run(&["preview", "price.sql", "--show", "3", "--html", &file("a.html")])
        .expect(0)
        .says("and 9 rows more")
        .says("Nothing was written");
    let preview = page(&s, "a.html");
    in_order(&preview);
    for part in [
        "<h1>Lime honey 2026 rises by a tenth</h1>",
        "Autumn price list.",
        "12 rows, all of them shown",
        "<del>16.18</del><span class=\"arrow\" aria-hidden=\"true\">→</span><ins>17.8</ins>",
        "8.3 % of the table",
        "<code>AND season = 2026</code>",
        "the first of two marks is taken",
        "<strong>not-unique</strong>",
        "nothing dearer than 40 a kilo",
        "marktwice undo RUN",
    ] {
        assert!(preview.contains(part), "{part} in\n{preview}");
    }
    // What is there already is not overwritten, and nothing is done for it.
    let marks = || std::fs::read_dir(s.shelf().join("marks")).unwrap().count();
    let before = marks();
    s.run(&["preview", "price.sql", "--html", &file("a.html")]).expect(2).says("is there already");
    assert_eq!((page(&s, "a.html"), marks()), (preview, before));

    s.run(&["rehearse", "price.sql", "--html", &file("b.html")]).expect(0);
    let rehearsal = page(&s, "b.html");
    in_order(&rehearsal);
    for part in [
        "It would be committed",
        "Rows of price_log that come in, by a trigger",
        "<span class=\"word\">holds</span>",
    ] {
        assert!(rehearsal.contains(part), "{part} in\n{rehearsal}");
    }

    let run = s.run(&["apply", "price.sql", "--yes", "--format", "json"]).expect(0).run();
    s.run(&["receipt", &run, "--html", &file("c.html")]).expect(0).says("outcome");
    let receipt = page(&s, "c.html");
    in_order(&receipt);
    for part in [
        &format!("Run {run}: committed, can be undone"),
        "both marks agreed",
        "<ins>17.8</ins>",
        &format!("marktwice undo {run}"),
    ] {
        assert!(receipt.contains(part), "{part} in\n{receipt}");
    }
    s.run(&["undo", &run, "--yes"]).expect(0);
    s.run(&["receipt", &run, "--html", &file("d.html")]).expect(0);
    assert!(page(&s, "d.html").contains("It was taken back, by "));
}

#[test]
fn what_the_data_holds_drives_no_browser() {
    let evil = "<script>alert(1)</script>&\"'";
    let s = scene(&format!(
        "CREATE TABLE \"a<b\" (id INTEGER PRIMARY KEY, \"c\"\"><i>\" TEXT);
         INSERT INTO \"a<b\" VALUES (1, '{0}'), (2, 'x{{{{ title }}}}');",
        evil.replace('\'', "''")
    ));
    let change = "/* marktwice\ntitle = \"<img src=x onerror=alert(2)>\"\nreason = \"</style><b>\"\n*/\n\
                  UPDATE \"a<b\" SET \"c\"\"><i>\" = '</td><script>' WHERE id < 3";
    let file = s.write("evil.sql", change);
    let (out, end) = (s.path("a.html").display().to_string(), s.path("b.html").display().to_string());
    s.run(&["preview", file.to_str().unwrap(), "--html", &out]).expect(0);
    let run =
        s.run(&["apply", file.to_str().unwrap(), "--rows", "2", "--yes", "--format", "json"]).expect(0).run();
    s.run(&["receipt", &run, "--html", &end]).expect(0);
    for name in ["a.html", "b.html"] {
        let page = page(&s, name);
        in_order(&page.replace("img src=x", "img"));
        for raw in ["<script", "<img", "<i>", "<b>", "</style><b>"] {
            assert!(!page.contains(raw), "{raw} in {name}");
        }
        assert!(page.contains("&lt;script&gt;alert(1)&lt;") && page.contains("x{{ title }}"), "{page}");
        assert_eq!(page.matches("</style>").count(), 1);
    }
}

#[test]
fn many_rows_are_counted_drawn_and_shown_in_part() {
    let s = scene(
        "CREATE TABLE batch (batch_id INTEGER PRIMARY KEY, kilos REAL, price INTEGER, note TEXT);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 100000)
         INSERT INTO batch SELECT i, i % 977 / 10.0, i % 100, 'jar ' || i FROM n;",
    );
    let out = s.path("a.html").display().to_string();
    s.run(&["preview", "--sql", "UPDATE batch SET kilos = kilos * 2, price = 7", "--html", &out]).expect(3);
    let page = page(&s, "a.html");
    in_order(&page);
    assert!(page.len() < 600_000, "{} bytes", page.len());
    for part in [
        "the first 500 of 100 000; 99 500 more are counted and not shown",
        "<h3>Totals of what changes</h3>",
        "kilos: how its values are spread",
        "evenly chosen",
        "What price is before and after, from 0 to 99",
        "<strong>no-filter</strong>",
        "100 % of the table",
    ] {
        assert!(page.contains(part), "{part}");
    }
    assert_eq!(tags(&page, "figure").len(), 2);
    // What is stopped says so on the page too, and a page can show more, to its bound.
    assert!(page.contains("It would not be applied"));
    let out = s.path("b.html").display().to_string();
    s.run(&[
        "preview",
        "--sql",
        "UPDATE batch SET price = 7 WHERE price < 60",
        "--show",
        "all",
        "--html",
        &out,
    ])
    .expect(0);
    assert!(self::page(&s, "b.html").contains("the first 2 000 of 60 000"));
}
