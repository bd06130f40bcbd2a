//! What comparing two releases costs.

use std::path::PathBuf;
use std::time::Instant;

use anyhow::{Result, ensure};
use testbed::path;

use crate::place::{Place, Row, service_with_boards, shell};

/// Two releases of an ordinary Linux root that differ in one file, compared by the service.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let (dir, bed) = (&place.dir, service_with_boards());
    let (tree, one, two) = (dir.join("tree"), dir.join("one.img"), dir.join("two.img"));
    // About 400 MB in some eight thousand files of this machine.
    let (tree_at, one_at, two_at) = (path(&tree), path(&one), path(&two));
    shell(&format!(
        "mkdir {tree_at} && cd /usr && \
         {{ find lib share include -type f -size -400k | sort | awk 'NR % 5 == 0' | head -7800; \
            find lib -type f -size +2M -size -40M | sort | head -24; }} > {tree_at}.list && \
         tar -cf - -T {tree_at}.list | tar -C {tree_at} -xf - && \
         truncate -s 904M {one_at} && printf 'label: dos\nstart=8192, type=83\n' | sfdisk -q {one_at} && \
         mke2fs -q -F -t ext4 -d {tree_at} -E offset=4194304 {one_at} 900M && cp --sparse=always {one_at} {two_at}"
    ))?;
    // One file is another one in the second.
    let word = dir.join("word");
    std::fs::write(&word, "another one")?;
    let root = dir.join("root.img");
    shell(&format!(
        "dd if={two_at} of={root} bs=4M skip=1 conv=sparse status=none && \
         debugfs -w -R 'write {word} word' {root} 2>/dev/null && \
         dd if={root} of={two_at} bs=4M seek=1 conv=notrunc,sparse status=none && rm -rf {tree_at} {root}",
        root = path(&root),
        word = path(&word),
    ))?;
    let sheet = |version: &str| -> Result<PathBuf> {
        let file = dir.join(format!("usual-{version}.toml"));
        std::fs::write(
            &file,
            format!("appliance = \"usual\"\nversion = \"{version}\"\nboards = [\"plover\"]\n"),
        )?;
        Ok(file)
    };
    for (image, version) in [(&one, "1"), (&two, "2")] {
        let sheet = sheet(version)?;
        bed.done(&["release", "add", path(image), "--sheet", path(&sheet)]);
        std::fs::remove_file(image)?;
    }
    let begun = Instant::now();
    let found = bed.json(&["release", "compare", "usual 1", "usual 2"]);
    let took = begun.elapsed().as_secs_f64();
    ensure!(
        found["counts"]["new"] == 1 && found["counts"]["changed"] == 0,
        "{found}"
    );
    Ok(vec![Row {
        name: "comparing two releases of an ordinary root, one file new",
        value: took,
        unit: "s",
        // Reading what differs once is next to nothing here: a few chunks.
        bar: Some(2.2),
    }])
}
