//! Zone files as people write them: read, refused with their places, and changed by the line.

use proptest::prelude::*;

use super::*;
use crate::zones::zone_data::tests::{HEAD, key, read, zone};
use crate::zones::zone_data::{Compared, TypeCode, ZoneData, compare};

#[test]
fn a_file_of_every_kind_of_line_is_read() {
    let text = "$ORIGIN example.\n$TTL 1h ; for all\nlarkfield IN SOA ns1.larkfield hostmaster.larkfield ( ; begins\n\t\
                2026112601 ; serial; with (parentheses)\n  3600 900 (604800)\n\t300 )\n\tNS\tns1.larkfield\n\n   ; nothing\n\
                $ORIGIN larkfield.example.\nns1 300 IN A 192.0.2.1\n IN 300 A 192.0.2.2\n\tAAAA 2001:db8::1\r\n\
                txt TXT \"a;b (c\" d\\;e \"\" ; a comment\n@ mx 10 ns1\n\\@ TXT x\nx\\.y CNAME @\n$TTL 5\nlast class1 Type1 \\# 4 c0000203";
    let zone = zone(text);
    let mut written = String::new();
    write_zone(&zone, &mut written).unwrap();
    let expected = "$ORIGIN larkfield.example.\n\
                    larkfield.example.\t3600\tIN\tSOA\tns1.larkfield.example. hostmaster.larkfield.example. 2026112601 3600 900 604800 300\n\
                    larkfield.example.\t3600\tIN\tNS\tns1.larkfield.example.\n\
                    larkfield.example.\t3600\tIN\tMX\t10 ns1.larkfield.example.\n\
                    \\@.larkfield.example.\t3600\tIN\tTXT\t\"x\"\n\
                    last.larkfield.example.\t5\tIN\tA\t192.0.2.3\n\
                    ns1.larkfield.example.\t300\tIN\tA\t192.0.2.1\n\
                    ns1.larkfield.example.\t300\tIN\tA\t192.0.2.2\n\
                    ns1.larkfield.example.\t3600\tIN\tAAAA\t2001:db8::1\n\
                    txt.larkfield.example.\t3600\tIN\tTXT\t\"a;b (c\" \"d;e\" \"\"\n\
                    x\\.y.larkfield.example.\t3600\tIN\tCNAME\tlarkfield.example.\n";
    assert_eq!(written, expected);
    assert_eq!(zone.serial().map(|serial| serial.0), Some(2_026_112_601));
    // What was written is read as the same zone.
    assert_eq!(compare(&zone, &self::zone(&written), Compared { all: true, ttls: true }), []);
}

/// As the server reads it that has it; the expected lines are what its checker writes.
#[test]
fn one_line_stands_for_many_records() {
    for (line, expected) in [
        ("$GENERATE 1-3 h$ A 192.0.2.$", &["h1 A 192.0.2.1", "h2 A 192.0.2.2", "h3 A 192.0.2.3"][..]),
        ("$GENERATE 0-8/4 ${10,3,x}.x 60 IN CNAME h${-1}", &["00a.x CNAME h-1", "00e.x CNAME h3", "012.x CNAME h7"]),
        ("$GENERATE 5-5 $ TXT \"a $ \\$ $$ b\"", &["5 TXT a 5 $ $ b"]),
        ("$GENERATE 26-26 ${0,0,X} A 192.0.2.1", &["1a A 192.0.2.1"]),
        ("$GENERATE 26-26 ${0,4,o}.${0,5,n}x PTR h${0,3}", &["0032.a.1.0x PTR h026"]),
        ("$GENERATE 255-255 ${0,0,N}.x IN MX \"10 h$\"", &["f.f.x MX 10 h255"]),
    ] {
        let written = |text: &str| {
            let mut written = String::new();
            write_zone(&zone(text), &mut written).unwrap();
            written
        };
        let by_hand: String = expected.iter().map(|line| format!("{line}\n")).collect();
        let ttl = if line.contains(" 60 ") { "$TTL 60\n" } else { "" };
        assert_eq!(written(&format!("{HEAD}{line}\n")), written(&format!("{HEAD}{ttl}{by_hand}")), "{line}");
    }
    // The name and TTL before it are in force after it, and what it makes is not edited.
    let text = format!("{HEAD}www 77 A 192.0.2.1\n$GENERATE 1-2 h$ 9 A 192.0.2.$\n\tTXT x\n");
    assert!(set_of(&zone(&text), "www.larkfield.example.", TypeCode::TXT).iter().all(|(ttl, _)| *ttl != 9));
    let set = |owner: &str| SetEdit { owner: key(owner), code: TypeCode::A, ttl: 60, data: Vec::new() };
    let apex = key("larkfield.example.");
    let now = "2026-11-26T10:00:00Z".parse().unwrap();
    let refused = edit(text.as_bytes(), &apex, &[set("h1.larkfield.example.")], now).unwrap_err();
    assert!(refused.to_string().contains("$GENERATE in line 7"), "{refused}");
    let edited = edit(text.as_bytes(), &apex, &[set("www.larkfield.example.")], now).unwrap();
    let edited = String::from_utf8(edited).unwrap();
    assert!(edited.ends_with("$GENERATE 1-2 h$ 9 A 192.0.2.$\nwww\tTXT x\n"), "{edited}");
}

/// A byte order mark is reported, since no server accepts it, and the rest of the file is read.
#[test]
fn a_byte_order_mark_is_one_mistake() {
    let whole = read(&format!("\u{feff}{HEAD}"));
    let told: Vec<_> = whole.mistakes.iter().map(|mistake| (mistake.place.line, &*mistake.says)).collect();
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].0 == 1 && told[0].1.contains("byte order mark"), "{told:?}");
    assert_eq!(read(HEAD).builder.finish(None).serial(), whole.builder.finish(None).serial());
}

/// A line, the code of its mistake, its line, its column, and a part of what is said.
const MISTAKES: &[(&str, MistakeCode, u32, u32, &str)] = &[
    ("www A 192.0.2.1 (\n", MistakeCode::Syntax, 6, 17, "not closed before the end"),
    ("www TXT \"open\n", MistakeCode::Syntax, 6, 9, "quote is not closed"),
    ("www A 192.0.2.1 )\n", MistakeCode::Syntax, 6, 17, "no parenthesis is open"),
    ("www IN CNMAE web\n", MistakeCode::BadType, 6, 8, "\"CNMAE\" is not a record type"),
    ("www CH A 192.0.2.1\n", MistakeCode::BadClass, 6, 5, "class CH"),
    ("www 3x A 192.0.2.1\n", MistakeCode::BadTtl, 6, 5, "\"3x\" is not a TTL"),
    ("www 4294967295 A 192.0.2.1\n", MistakeCode::BadTtl, 6, 5, "counts as nought"),
    ("www A 192.0.2\n", MistakeCode::BadData, 6, 7, "\"192.0.2\" is not an IPv4 address"),
    ("www MX 10\n", MistakeCode::BadData, 6, 10, "a name is missing"),
    ("www MX ( 10\n  a..b )\n", MistakeCode::BadData, 7, 3, "\"a..b\" is no name"),
    ("a..b A 192.0.2.1\n", MistakeCode::BadName, 6, 1, "a label of the name is empty"),
    ("www\n", MistakeCode::BadType, 6, 4, "type of the record is missing"),
    ("$GENERATE 1-9\n", MistakeCode::Generate, 6, 14, "the name, the type or the data"),
    ("$GENERATE 9-1 h$ A 192.0.2.$\n", MistakeCode::Generate, 6, 11, "begins after its end"),
    ("$GENERATE 1-9/0 h$ A 192.0.2.$\n", MistakeCode::Generate, 6, 11, "\"1-9/0\" is not a range"),
    ("$GENERATE 0-2147483647 h$ A 192.0.2.1\n", MistakeCode::Generate, 6, 11, "more than 1048576 records"),
    ("$GENERATE 256-260 h$ A 192.0.2.$\n", MistakeCode::Generate, 6, 1, "\"h256 A 192.0.2.256\" the data of A"),
    ("$GENERATE 1-9 h$ MX 10 a$\n", MistakeCode::Generate, 6, 24, "one word, or several in quotes"),
    ("$GENERATE 1-9 h${1,2,z} A 192.0.2.$\n", MistakeCode::Generate, 6, 1, "\"${1,2,z}\" is not a form"),
    ("$TLL 60\n", MistakeCode::Directive, 6, 1, "$TLL is not a directive"),
    ("$TTL\n", MistakeCode::Directive, 6, 5, "a number of seconds is missing"),
    ("$ORIGIN a b\n", MistakeCode::Directive, 6, 11, "more than $ORIGIN takes"),
    ("www ANY x\n", MistakeCode::BadType, 6, 5, "is not a record type"),
    ("www TYPE255 \\# 0\n", MistakeCode::BadType, 6, 5, "is for questions"),
];

#[test]
fn each_mistake_is_told_at_its_place_and_the_rest_is_read() {
    for (lines, code, line, column, says) in MISTAKES {
        let whole = read(&format!("{HEAD}{lines}"));
        let [mistake] = &whole.mistakes[..] else { panic!("{lines}{:#?}", whole.mistakes) };
        assert_eq!((mistake.code, mistake.place.line, mistake.column), (*code, *line, *column), "{mistake:#?}");
        assert!(mistake.says.contains(says) && !mistake.help.is_empty(), "{mistake:#?}");
        assert_eq!(whole.builder.len(), 4);
    }
    let first = read("  A 192.0.2.1\nwww A 192.0.2.1\n\nwww 60 A 192.0.2.1\nx A 192.0.2.2\n");
    let codes: Vec<MistakeCode> = first.mistakes.iter().map(|mistake| mistake.code).collect();
    assert_eq!((codes, first.builder.len()), (vec![MistakeCode::NoOwner, MistakeCode::NoTtl], 2));
    assert!(read(&format!("{HEAD}www CNMAE x\n")).mistakes[0].help.contains("CNAME"));
    // An entry without an end is given up at a bound.
    let endless = format!("{HEAD}x TXT (\n{}", format!("\"{}\"\n", "y".repeat(200)).repeat(4_000));
    let whole = read(&endless);
    assert!(
        whole.mistakes[0].code == MistakeCode::TooLong && whole.mistakes[0].place.line == 6,
        "{:?}",
        whole.mistakes[0]
    );
}

const BY_HAND: &str = "; The zone of the survey.\n$TTL 600\n@        IN SOA ns1 hostmaster (\n         2026112501   ; serial\n\
                       3600 900 604800 300 )\n         IN NS  ns1   ; ours\n\n; hosts\nns1      IN A   192.0.2.1\n\
                       www      IN A   192.0.2.8 ; the old one\n         IN TXT \"hello\"\nlong     IN CNAME www\n\n; the end\n";

fn change(text: &str, owner: &str, code: TypeCode, ttl: u32, data: &[&str]) -> String {
    let apex = key("larkfield.example.");
    let written: String = data.iter().map(|data| format!("$TTL 60\nx {code} {data}\n")).collect();
    let data = zone(&written).entries().map(|entry| entry.data.to_vec()).collect();
    let set = SetEdit { owner: key(owner), code, ttl, data };
    let now = "2026-11-26T10:00:00Z".parse().unwrap();
    String::from_utf8(edit(text.as_bytes(), &apex, &[set], now).unwrap()).unwrap()
}

/// The lines that differ, with their signs.
fn lines(before: &str, after: &str) -> Vec<String> {
    let (before, after): (Vec<&str>, Vec<&str>) = (before.lines().collect(), after.lines().collect());
    let gone = before.iter().filter(|line| !after.contains(line)).map(|line| format!("-{line}"));
    let new = after.iter().filter(|line| !before.contains(line)).map(|line| format!("+{line}"));
    gone.chain(new).collect()
}

#[test]
fn only_the_lines_concerned_change() {
    let (old, new) = ("-         2026112501   ; serial", "+         2026112601   ; serial");
    let www = "www.larkfield.example.";
    let changed = |code, ttl, data: &[&str]| lines(BY_HAND, &change(BY_HAND, www, code, ttl, data));
    assert_eq!(change(BY_HAND, www, TypeCode::A, 600, &["192.0.2.8"]), BY_HAND);
    assert_eq!(
        changed(TypeCode::A, 600, &["192.0.2.9"]),
        [old, "-www      IN A   192.0.2.8 ; the old one", new, "+www      IN A   192.0.2.9 ; the old one"]
    );
    assert_eq!(
        changed(TypeCode::A, 60, &["192.0.2.8"]),
        [old, "-www      IN A   192.0.2.8 ; the old one", new, "+www      60 IN A   192.0.2.8 ; the old one"]
    );
    // The next record takes the name over.
    assert_eq!(
        changed(TypeCode::A, 600, &[]),
        [
            old,
            "-www      IN A   192.0.2.8 ; the old one",
            "-         IN TXT \"hello\"",
            new,
            "+www      IN TXT \"hello\""
        ]
    );
    assert_eq!(changed(TypeCode::TXT, 600, &[]), [old, "-         IN TXT \"hello\"", new]);
    assert_eq!(changed(TypeCode::AAAA, 600, &["2001:db8::8"]), [old, new, "+www      IN AAAA 2001:db8::8"]);
    assert_eq!(
        lines(BY_HAND, &change(BY_HAND, "_acme-challenge.larkfield.example.", TypeCode::TXT, 5, &["\"token\""])),
        [old, new, "+_acme-challenge 5 IN TXT \"token\""]
    );
}

#[test]
fn serials_rise_as_they_are_written() {
    let now = "2026-11-26T10:00:00Z".parse().unwrap();
    for (old, new) in [
        (2_026_112_501, 2_026_112_601),
        (2_026_112_601, 2_026_112_602),
        (2_026_112_699, 2_026_112_700),
        (2_027_010_101, 2_027_010_102),
        (41, 42),
        (u32::MAX, 1),
        (1_700_000_000, 1_795_687_200),
        (0, 1),
    ] {
        assert_eq!(super::edit::next_serial(old, now), new, "{old}");
    }
}

fn set_of(zone: &ZoneData, owner: &str, code: TypeCode) -> Vec<(u32, Vec<u8>)> {
    zone.at(&key(owner)).filter(|entry| entry.code == code).map(|entry| (entry.ttl, entry.data.to_vec())).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever sets are changed in whatever file: they are what they shall be, and all others are what they were.
    #[test]
    fn an_edit_changes_what_it_says_and_nothing_else(
        hosts in prop::collection::vec((0_u8..5, 0_u8..4, prop::bool::ANY, 0_u8..3), 0..12),
        edits in prop::collection::vec((0_u8..6, prop::collection::btree_set(0_u8..4, 0..3), 0_u32..3), 1..4),
    ) {
        let mut text = BY_HAND.to_owned();
        let mut last = None;
        for (host, address, is_named, style) in hosts {
            let name = if !is_named && last == Some(host) { "\t".to_owned() } else { format!("h{host} ") };
            let blanks = ["IN A ", "  600\tA\t", "A ( "][usize::from(style)];
            let end = if style == 2 { "\n ) ; closed\n" } else { "\n" };
            text.push_str(&format!("{name}{blanks}192.0.2.{address}{end}"));
            last = Some(host);
        }
        let before = read(&text).builder.finish(Some(key("larkfield.example.")));
        let apex = key("larkfield.example.");
        let mut sets: Vec<SetEdit> = Vec::new();
        for (host, addresses, ttl) in edits {
            let owner = key(&format!("h{host}.larkfield.example."));
            if sets.iter().all(|set| set.owner != owner) {
                let data = addresses.into_iter().map(|last| vec![192, 0, 2, last]).collect();
                sets.push(SetEdit { owner, code: TypeCode::A, ttl: 60 + ttl, data });
            }
        }
        let now = "2026-11-26T10:00:00Z".parse().unwrap();
        let edited = edit(text.as_bytes(), &apex, &sets, now).unwrap();
        let after = zone(std::str::from_utf8(&edited).unwrap());
        for set in &sets {
            let has: Vec<(u32, Vec<u8>)> = set_of(&after, &set.owner.to_string(), TypeCode::A);
            let wanted: Vec<(u32, Vec<u8>)> = set.data.iter().map(|data| (set.ttl, data.clone())).collect();
            let mut once = has.clone();
            once.dedup();
            prop_assert_eq!(once, wanted, "{}", String::from_utf8_lossy(&edited));
        }
        for difference in compare(&before, &after, Compared { all: false, ttls: true }) {
            prop_assert!(sets.iter().any(|set| set.owner == difference.name), "{difference:?}");
        }
        prop_assert_eq!(edit(&edited, &apex, &sets, now).unwrap(), edited);
    }

    #[test]
    fn any_text_is_read_or_refused(text in "[-a-z0-9 .\"\\\\();@$\n\t]{0,200}|\\PC{0,100}") {
        let whole = read(&text);
        let _ = crate::zones::zone_data::slips(&whole.builder.finish(None));
        let _ = edit(text.as_bytes(), &key("larkfield.example."), &[], jiff::Timestamp::UNIX_EPOCH);
    }
}
