//! Recipes that are careless on purpose, one cause each: how many of them does `reproduce` find, and name rightly?

mod common;

use common::Place;
use std::collections::BTreeMap;

/// Name of the recipe, the cause, what it needs, its install step.
const CARELESS: [(&str, &str, &str, &str); 31] = [
    ("date", "time stamp", "", "date > $OUT/x"),
    ("seconds", "time stamp", "", "echo built at $(date +%s) > $OUT/x"),
    ("day-of-year", "time stamp", "", "date +%j/%Y-%N > $OUT/x"),
    (
        "macros",
        "time stamp",
        "cc",
        "unset SOURCE_DATE_EPOCH; echo 'const char *t = __DATE__ __TIME__;' > a.c; cc -c a.c -o $OUT/x.o",
    ),
    ("gzip-header", "time stamp", "gzip", "echo text > page; gzip page; cp page.gz $OUT/"),
    ("tar-times", "time stamp", "tar", "echo text > page; tar --owner=0 --group=0 -cf $OUT/x.tar page"),
    ("ar-times", "time stamp", "cc ar", "echo 'int a;' > a.c; cc -c a.c; ar qcU $OUT/x.a a.o"),
    ("awk-seed", "time stamp", "", "awk 'BEGIN { srand(); print rand() }' > $OUT/x"),
    ("working-directory", "build path", "", "pwd > $OUT/x"),
    ("source-path", "build path", "cc", "echo 'const char *f = __FILE__;' > a.c; cc -c $PWD/a.c -o $OUT/x.o"),
    ("debug-information", "build path", "cc", "echo 'int f(int a) { return a; }' > a.c; cc -g -c a.c -o $OUT/x.o"),
    ("path-in-script", "build path", "", "printf '#!/bin/sh\\ncat %s/data\\n' $SRC > $OUT/x"),
    ("node-name", "host name", "", "uname -n > $OUT/x"),
    ("host-in-banner", "host name", "", "echo \"made on $(cat /proc/sys/kernel/hostname)\" > $OUT/x"),
    ("login-name", "user", "", "echo by $LOGNAME > $OUT/x"),
    ("home", "user", "", "echo ~/.config > $OUT/x"),
    ("user-number", "user", "", "echo made by $(id -u):$(id -g) > $OUT/x"),
    ("directory-modes", "umask", "", "mkdir $OUT/d; echo a > $OUT/d/a"),
    ("characters", "locale", "", "echo \"characters: $LC_ALL\" > $OUT/x"),
    ("language", "locale", "", "echo lang=$LANG > $OUT/x"),
    ("hour", "time zone", "", "date -d @1700000000 > $OUT/x"),
    (
        "unsorted-list",
        "order of directories",
        "",
        "mkdir l; for n in a b c d e f; do echo $n > l/$n; done; find l -type f > $OUT/x",
    ),
    (
        "unsorted-archive",
        "order of directories",
        "tar",
        "mkdir l; for n in a b c d e f; do echo $n > l/$n; done; tar --mtime=@0 --owner=0 --group=0 -cf $OUT/x.tar l",
    ),
    ("urandom", "random identifier", "", "head -c 8 /dev/urandom | od -An -tx1 > $OUT/x"),
    ("uuid", "random identifier", "", "cat /proc/sys/kernel/random/uuid > $OUT/x"),
    ("temporary-name", "random identifier", "", "basename $(mktemp -u) > $OUT/x"),
    (
        "build-id",
        "random identifier",
        "cc",
        "echo 'int main(void) { return 0; }' > a.c; cc -Wl,--build-id=uuid a.c -o $OUT/x",
    ),
    (
        "race",
        "parallel race",
        "",
        "seq 40 | xargs -P $JOBS -I N sh -c 'n=$(od -An -N1 -tu1 /dev/urandom); sleep 0.00$((n % 10)); echo N >> $OUT/x'",
    ),
    ("job-count", "number of jobs", "", "echo built with $JOBS > $OUT/x"),
    ("environment-size", "environment", "", "env | wc -l > $OUT/x"),
    (
        "address",
        "memory layout",
        "cc",
        "printf '#include <stdio.h>\\nint main(void) { printf(\"%%p\", (void *)main); return 0; }\\n' > a.c; cc a.c -o a; ./a > $OUT/x",
    ),
];

#[test]
fn causes_of_careless_recipes_are_named() {
    let mut files: Vec<(String, String)> = Vec::new();
    let mut names = Vec::new();
    for (name, cause, needs, install) in CARELESS {
        // Whatever writes files by a shell has the modes its mask gives; only one is to be careless in that.
        let mask = if cause == "umask" { "" } else { "umask 022; " };
        let tools: Vec<String> = needs.split_whitespace().map(|t| format!("'{t}'")).collect();
        files.push((
            format!("l/recipes/{name}/recipe.toml"),
            format!(
                "name = '{name}'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n[needs]\nbuild = [{}]\n[steps]\ninstall = '''{mask}mkdir -p $OUT/{name}; OUT=$OUT/{name}; {install}'''\n",
                tools.join(", ")
            ),
        ));
        names.push(format!("'{name}'"));
    }
    let careful = "name = 'careful'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n[steps]\ninstall = 'umask 022; echo $SOURCE_DATE_EPOCH > $OUT/careful'\n";
    files.push(("l/recipes/careful/recipe.toml".into(), careful.into()));
    let image = format!("image = 'i'\noutputs = ['manifest']\npackages = ['careful', {}]\n", names.join(", "));
    files.push(("l/images/i.toml".into(), image));
    let files: Vec<(&str, &str)> = files.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
    let place = Place::of(&files).with_own_store();
    let workspace = place.read("embrak.toml");
    place.write(
        "embrak.toml",
        &workspace
            .replace("\"make\"]", "\"make\", \"ar\", \"tar\", \"gzip\"]")
            .replace("'make']", "'make', 'ar', 'tar', 'gzip']"),
    );
    place.build(&["i"]);
    let said = place.run(&["reproduce", "--vary", "all", "--json"]).expect(3).json();
    let mut found: BTreeMap<String, String> = BTreeMap::new();
    for package in said["packages"].as_array().unwrap() {
        let title = package["name"].as_str().unwrap();
        let name = title.split(' ').next().unwrap().to_string();
        if package["identical"] == true {
            continue;
        }
        let own =
            |d: &&serde_json::Value| d["place"].as_str().is_some_and(|p| p.starts_with(&format!("package {title}")));
        let cause = said["differences"].as_array().unwrap().iter().find(own).map(|d| d["cause"]["name"].clone());
        found.insert(name, cause.and_then(|c| c.as_str().map(str::to_string)).unwrap_or_else(|| "none".into()));
    }
    assert!(!found.contains_key("careful"), "a careful recipe reproduces under all variations");
    let mut right = 0;
    let mut wrong = Vec::new();
    for (name, cause, ..) in CARELESS {
        match found.get(name) {
            Some(named) if named == cause => right += 1,
            other => wrong.push(format!("{name}: {} instead of {cause}", other.map_or("found to be identical", |c| c))),
        }
    }
    println!("{} of {} careless recipes found out, {right} causes named rightly", found.len(), CARELESS.len());
    // A race may be won by the same runner twice.
    assert!(right + 1 >= CARELESS.len(), "{right} of {}: {wrong:#?}", CARELESS.len());
}
