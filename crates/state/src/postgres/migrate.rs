//! What SQL alone cannot bring to another schema.

use tokio_postgres::Transaction;

use super::Failure;
use crate::sql::things::{facts_of_texts, things_of_texts};

/// How many hostnames are brought over at once.
const AT_ONCE: usize = 2_000;

/// Puts each thing that was written, and each fact, in a row of its own: they lay together in two texts by hostname.
pub(super) async fn put_things_in_rows(transaction: &Transaction<'_>) -> Result<(), Failure> {
    let rows = transaction.query("SELECT hostname, facts, ours FROM hostname_facts", &[]).await?;
    for rows in rows.chunks(AT_ONCE) {
        let mut things = [const { Vec::new() }; 3];
        let (mut facts, mut seen) = ([const { Vec::new() }; 3], Vec::new());
        for row in rows {
            let (hostname, seen_text, ours): (String, &str, &str) = (row.get(0), row.get(1), row.get(2));
            for (thing, value) in things_of_texts(ours)? {
                things[0].push(hostname.clone());
                things[1].push(thing);
                things[2].push(value);
            }
            for fact in facts_of_texts(seen_text)? {
                facts[0].push(hostname.clone());
                facts[1].push(fact.about);
                facts[2].push(fact.fact);
                seen.push(fact.seen);
            }
        }
        let insert = "INSERT INTO things (hostname, thing, value, version, fence)
                      SELECT hostname, thing, value, 1, 0
                      FROM unnest($1::text[], $2::text[], $3::text[]) AS rows (hostname, thing, value)";
        transaction.execute(insert, &[&things[0], &things[1], &things[2]]).await?;
        let insert = "INSERT INTO facts (hostname, about, fact, seen)
                      SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::bigint[])";
        transaction.execute(insert, &[&facts[0], &facts[1], &facts[2], &seen]).await?;
    }
    transaction.batch_execute("DROP TABLE hostname_facts").await?;
    Ok(())
}
