//! Values that stand for `:name`: each becomes a parameter of the protocol's, in the order of the text.

use std::borrow::Cow;

use marktwice_core::Value;
use marktwice_core::param::{Bound, ParamKind};
use marktwice_relational::params::{digits, kind, text};
use marktwice_sql::Language;
use marktwice_sql::query::placeholders::replaced;

use crate::client::My;

/// What stands in the text for a value, so that it has the type that it would have if it were written there: a text that is
/// compared with a number would make both of them floating.
fn marker(bound: &Bound) -> String {
    let number = text(&bound.value).unwrap_or_default();
    match kind(bound) {
        Some(ParamKind::Decimal) => {
            let (all, behind) = digits(&number);
            format!("CAST(? AS DECIMAL({all}, {behind}))")
        }
        Some(ParamKind::Date) => "CAST(? AS DATE)".to_owned(),
        Some(ParamKind::Time) => "CAST(? AS TIME)".to_owned(),
        Some(ParamKind::Moment) => "CAST(? AS DATETIME(6))".to_owned(),
        Some(ParamKind::Text | ParamKind::Integer | ParamKind::Real | ParamKind::Boolean) | None => {
            "?".to_owned()
        }
    }
}

impl My {
    /// A text as it is sent, and the values for its marks; those that it had already come first, since texts of ours that have
    /// some name no parameters.
    pub(crate) fn sent<'s>(&self, sql: &'s str, values: &[Value]) -> (Cow<'s, str>, Vec<Value>) {
        let mut all = values.to_vec();
        if self.params.is_empty() {
            return (Cow::Borrowed(sql), all);
        }
        let done = replaced(sql, Language::Mysql, &mut |name| {
            let bound = self.params.iter().find(|bound| bound.name == name)?;
            all.push(bound.value.clone());
            Some(marker(bound))
        });
        (done.map_or(Cow::Borrowed(sql), |done| Cow::Owned(done.text)), all)
    }
}
