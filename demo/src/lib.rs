//! The demo: Heathermoor Honey Co-operative, a made-up beekeepers' co-operative. Its definitions, its rows (the same
//! on every engine, made by a fixed generator), and change files that tell small stories.

use marktwice_core::Value;

/// An engine that the demo is made on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Engine {
    /// SQLite.
    Sqlite,
    /// PostgreSQL.
    Postgres,
    /// MariaDB.
    Maria,
}

/// Definitions for an engine, and those that come after the rows (a trigger must not see them come in).
pub fn schema(engine: Engine) -> (&'static str, &'static str) {
    match engine {
        Engine::Sqlite => (include_str!("../schema/sqlite.sql"), include_str!("../schema/sqlite_after.sql")),
        Engine::Postgres => {
            (include_str!("../schema/postgres.sql"), include_str!("../schema/postgres_after.sql"))
        }
        Engine::Maria => (include_str!("../schema/mysql.sql"), include_str!("../schema/mysql_after.sql")),
    }
}

/// Change files, and what they read, that every engine takes.
const COMMON: &[(&str, &str)] = &[
    ("region.sql", include_str!("../changes/region.sql")),
    ("region_corrected.sql", include_str!("../changes/region_corrected.sql")),
    ("inspection_date.sql", include_str!("../changes/inspection_date.sql")),
    ("email_collides.sql", include_str!("../changes/email_collides.sql")),
    ("price.sql", include_str!("../changes/price.sql")),
    ("old_inspections.sql", include_str!("../changes/old_inspections.sql")),
    ("two_slips.sql", include_str!("../changes/two_slips.sql")),
    ("apiary_given_up.sql", include_str!("../changes/apiary_given_up.sql")),
    ("new_apiary.sql", include_str!("../changes/new_apiary.sql")),
    ("office_prices.csv", include_str!("../changes/office_prices.csv")),
    ("forgotten_filter.sql", include_str!("../changes/forgotten_filter.sql")),
];

/// The change files for an engine, by name.
pub fn changes(engine: Engine) -> Vec<(&'static str, &'static str)> {
    let own: &[(&str, &str)] = match engine {
        Engine::Sqlite => &[
            ("season_total.sql", include_str!("../changes/sqlite/season_total.sql")),
            ("office_prices.sql", include_str!("../changes/sqlite/office_prices.sql")),
            ("season_sheet.sql", include_str!("../changes/sqlite/season_sheet.sql")),
            ("sheet_duplicate.sql", include_str!("../changes/sqlite/sheet_duplicate.sql")),
        ],
        Engine::Postgres => &[
            ("season_total.sql", include_str!("../changes/postgres/season_total.sql")),
            ("office_prices.sql", include_str!("../changes/postgres/office_prices.sql")),
            ("season_sheet.sql", include_str!("../changes/postgres/season_sheet.sql")),
            ("sheet_duplicate.sql", include_str!("../changes/postgres/sheet_duplicate.sql")),
        ],
        // Two rows that are equal in all they hold cannot be told apart there by a filter.
        Engine::Maria => &[
            ("season_total.sql", include_str!("../changes/mysql/season_total.sql")),
            ("office_prices.sql", include_str!("../changes/mysql/office_prices.sql")),
            ("season_sheet.sql", include_str!("../changes/mysql/season_sheet.sql")),
        ],
    };
    COMMON.iter().chain(own).copied().collect()
}

/// The rows of one table.
pub type Table = (&'static str, Vec<Vec<Value>>);

/// Inspections in the demo.
pub const INSPECTIONS: i64 = 3_204;
const HIVES: i64 = 60;
const REGIONS: [&str; 4] = ["Moor", "Dale", "Coast", "Fell"];

/// A fixed generator (Knuth's MMIX constants): the same rows on every machine, for ever.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: i64) -> i64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        i64::try_from(self.0 >> 33).unwrap_or(0) % sides
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        let at = usize::try_from(self.roll(i64::try_from(from.len()).unwrap_or(1))).unwrap_or(0);
        from.get(at).copied().unwrap_or("")
    }
}

fn text(text: impl Into<String>) -> Value {
    Value::Text(text.into().into())
}

/// Two decimals, as a price list has them.
fn cents(n: i64) -> Value {
    Value::Real(n as f64 / 100.0)
}

/// A day as `YYYY-MM-DD`, counted from 1970-01-01 (Howard Hinnant's days-from-civil, turned round).
fn day(n: i64) -> String {
    let z = n + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1_460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let d = doy - (153 * mp + 2) / 5 + 1;
    let m = if mp < 10 { mp + 3 } else { mp - 9 };
    let y = yoe + era * 400 + i64::from(m <= 2);
    format!("{y:04}-{m:02}-{d:02}")
}

/// All rows, parents first.
pub fn tables() -> Vec<Table> {
    let mut dice = Dice(2026);
    vec![
        ("keeper", keepers(&mut dice)),
        ("apiary", apiaries(&mut dice)),
        ("hive", hives(&mut dice)),
        ("hive_season", seasons(&mut dice)),
        ("inspection", inspections(&mut dice)),
        ("batch", batches(&mut dice)),
        ("sale", sales(&mut dice)),
        ("sheet_import", sheet(&mut dice)),
        ("season_sheet", season_sheet()),
    ]
}

const FIRST: [&str; 24] = [
    "Ada", "Bram", "Orla", "Cuthbert", "Tam", "Elsie", "Fergus", "Greta", "Hamish", "Isla", "Jory", "Keir",
    "Lowri", "Morag", "Ned", "Una", "Piran", "Quilla", "Rhona", "Silas", "Tegan", "Ulick", "Vera", "Wilf",
];
const LAST: [&str; 24] = [
    "Thornley", "Askew", "Fenwick", "Garth", "Birkett", "Harker", "Ingleby", "Jopling", "Kell", "Lister",
    "Metcalf", "Nutter", "Oldroyd", "Peel", "Raine", "Sedgwick", "Thwaite", "Usher", "Varley", "Wardle",
    "Yarrow", "Airey", "Bell", "Coates",
];

fn keepers(dice: &mut Dice) -> Vec<Vec<Value>> {
    FIRST
        .iter()
        .zip(LAST)
        .zip(1..)
        .map(|((first, last), id)| {
            let phone = if dice.roll(3) == 0 {
                Value::Null
            } else {
                text(format!("01632 9{:05}", dice.roll(100_000)))
            };
            let region = match id {
                3 | 5 => "Dale",
                8 => "Moor",
                _ => dice.pick(&REGIONS),
            };
            let email = format!("{}.{}@heathermoor.example", first.to_lowercase(), last.to_lowercase());
            vec![Value::Int(id), text(format!("{first} {last}")), text(email), phone, text(region)]
        })
        .collect()
}

const APIARIES: [&str; 9] = [
    "Long Causeway",
    "Priest's Garth",
    "Whin Bank",
    "Sheepwash",
    "Cold Kirby",
    "Lady's Chapel",
    "Sand Hole",
    "Nab End",
    "Old Quarry",
];

fn apiaries(dice: &mut Dice) -> Vec<Vec<Value>> {
    APIARIES
        .iter()
        .zip(1..)
        .map(|(name, id)| vec![Value::Int(id), text(*name), Value::Int(1 + dice.roll(24))])
        .collect()
}

const HIVE_NAMES: [&str; 20] = [
    "Foxglove",
    "Bellheather",
    "Ling",
    "Bilberry",
    "Gorse",
    "Meadowsweet",
    "Harebell",
    "Clover",
    "Borage",
    "Thyme",
    "Betony",
    "Bellheather",
    "Rowan",
    "Hawthorn",
    "Bramble",
    "Yarrow",
    "Comfrey",
    "Sorrel",
    "Tansy",
    "Vetch",
];

fn hives(dice: &mut Dice) -> Vec<Vec<Value>> {
    (1..=HIVES)
        .zip(HIVE_NAMES.iter().cycle())
        .map(|(id, name)| {
            let colour = dice.pick(&["white", "yellow", "red", "green", "blue"]);
            vec![Value::Int(id), text(*name), Value::Int(1 + dice.roll(9)), text(colour)]
        })
        .collect()
}

fn seasons(dice: &mut Dice) -> Vec<Vec<Value>> {
    let mut rows = Vec::new();
    for hive in 1..=HIVES {
        for season in 2022..=2026 {
            let total = if season == 2026 { Value::Null } else { cents(800 + dice.roll(3_600)) };
            rows.push(vec![Value::Int(hive), Value::Int(season), total]);
        }
    }
    rows
}

fn inspections(dice: &mut Dice) -> Vec<Vec<Value>> {
    // From 1 April 2020 on, about three a day.
    (1..=INSPECTIONS)
        .map(|id| {
            let (hive, on) = match id {
                418 => (12, "2026-05-10".to_owned()),
                _ => (1 + dice.roll(HIVES), day(18_353 + id * 7 / 10 + dice.roll(5))),
            };
            let note = match dice.roll(6) {
                0 => text("eggs seen, calm"),
                1 => text("super added"),
                2 => text("queen not seen"),
                3 => text("treated against mites"),
                _ => Value::Null,
            };
            vec![Value::Int(id), Value::Int(hive), text(on), note]
        })
        .collect()
}

fn batches(dice: &mut Dice) -> Vec<Vec<Value>> {
    let mut rows = Vec::new();
    for season in 2024..=2026 {
        for flower in ["lime", "heather", "clover", "rape"] {
            for _ in 0..12 {
                let (kilos, price) = (1_000 + dice.roll(9_000), 790 + dice.roll(900));
                let list = price * 5 / 4;
                let discount = if dice.roll(3) == 0 { cents(list * 9 / 10) } else { Value::Null };
                let id = Value::Int(i64::try_from(rows.len()).unwrap_or(0) + 1);
                rows.push(vec![
                    id,
                    text(flower),
                    Value::Int(season),
                    cents(kilos),
                    cents(price),
                    cents(list),
                    discount,
                ]);
            }
        }
    }
    rows
}

fn sales(dice: &mut Dice) -> Vec<Vec<Value>> {
    (1..=400)
        .map(|id| {
            let (batch, kilos) = (1 + dice.roll(144), 25 + dice.roll(500));
            vec![Value::Int(id), Value::Int(batch), cents(kilos), text(day(20_000 + dice.roll(700)))]
        })
        .collect()
}

fn sheet(dice: &mut Dice) -> Vec<Vec<Value>> {
    let mut rows: Vec<Vec<Value>> = (0..40)
        .map(|n| {
            let hive = if n % 8 == 0 { 12 } else { 1 + dice.roll(HIVES) };
            let note = if dice.roll(4) == 0 { text("wet comb") } else { Value::Null };
            let kilos = format!("{}.{}", 2 + dice.roll(9), dice.roll(10));
            vec![text(hive.to_string()), text(day(20_650 + n)), text(kilos), note]
        })
        .collect();
    // One line was pasted twice.
    rows.extend(rows.get(17).cloned());
    rows
}

/// What the office has collected of this season, and of three hives whose first seasons were never entered; the last line of it
/// is there already.
fn season_sheet() -> Vec<Vec<Value>> {
    let row = |hive: i64, season: i64, total: Value| vec![Value::Int(hive), Value::Int(season), total];
    let mut rows: Vec<_> = (1..=24).map(|hive| row(hive, 2026, cents(900 + hive * 37 % 500))).collect();
    rows.extend([3, 12, 41].map(|hive| row(hive, 2021, cents(1_100 + hive * 11))));
    rows.push(row(60, 2026, Value::Null));
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rows_are_the_same_for_ever() {
        let mut fingerprint = marktwice_core::Fingerprint::default();
        for (name, rows) in tables() {
            for row in rows {
                let mut whole = vec![text(name)];
                whole.extend(row);
                fingerprint.add(&marktwice_core::hash::RowHash::of(&whole));
            }
        }
        assert_eq!(
            fingerprint.to_text(),
            "4210:9f29be8205b318c450443e4566d93131f8efb8b9fee102430b8129e197a936b0"
        );
    }

    #[test]
    fn days() {
        assert_eq!(
            (day(0), day(18_353), day(20_583)),
            ("1970-01-01".into(), "2020-04-01".into(), "2026-05-10".into())
        );
    }
}
