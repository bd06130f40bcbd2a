//! What a file is and what comes out of it: every packing, archives with other files beside the
//! image, and everything that must be refused with a sentence.

use std::io::{Cursor, Write};

use imagecraft::container::{ContainerError, Limits, PROBE_LEN, Source};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// An image of 2 MiB with a partition table and content that packs badly enough.
fn image() -> Vec<u8> {
    let mut state = 0x2545_f491_u32;
    let mut bytes: Vec<u8> = (0..2u32 << 20)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 17;
            state ^= state << 5;
            state as u8 & 0x0f
        })
        .collect();
    bytes[..512].fill(0);
    bytes[446 + 4] = 0x83;
    bytes[446 + 8..446 + 16].copy_from_slice(&[8, 0, 0, 0, 0, 8, 0, 0]);
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    bytes
}

fn gz(bytes: &[u8]) -> Vec<u8> {
    let mut enc = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    enc.write_all(bytes).unwrap();
    enc.finish().unwrap()
}

fn xz(bytes: &[u8]) -> Vec<u8> {
    let mut enc = liblzma::write::XzEncoder::new(Vec::new(), 1);
    enc.write_all(bytes).unwrap();
    enc.finish().unwrap()
}

fn bz2(bytes: &[u8]) -> Vec<u8> {
    let mut enc = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
    enc.write_all(bytes).unwrap();
    enc.finish().unwrap()
}

fn zst(bytes: &[u8]) -> Vec<u8> {
    let mut enc = zstd::stream::Encoder::new(Vec::new(), 1).unwrap();
    enc.include_checksum(true).unwrap();
    enc.write_all(bytes).unwrap();
    enc.finish().unwrap()
}

type Pack = fn(&[u8]) -> Vec<u8>;
const PACKINGS: [(&str, Pack); 4] = [("gzip", gz), ("xz", xz), ("bzip2", bz2), ("zstd", zst)];

/// A zip archive. `stream` writes it with lengths behind the data instead of in front.
fn archive(
    files: &[(&str, &[u8])],
    method: CompressionMethod,
    large: bool,
    stream: bool,
) -> Vec<u8> {
    fn fill<W: Write + std::io::Seek>(
        mut zip: ZipWriter<W>,
        files: &[(&str, &[u8])],
        options: SimpleFileOptions,
    ) -> W {
        for (name, bytes) in files {
            zip.start_file(*name, options).unwrap();
            zip.write_all(bytes).unwrap();
        }
        zip.finish().unwrap()
    }
    let options = SimpleFileOptions::default()
        .compression_method(method)
        .large_file(large);
    if stream {
        let mut zip = ZipWriter::new_stream(Vec::new());
        for (name, bytes) in files {
            zip.start_file(*name, options).unwrap();
            zip.write_all(bytes).unwrap();
        }
        return zip.finish().unwrap().into_inner();
    }
    fill(ZipWriter::new(Cursor::new(Vec::new())), files, options).into_inner()
}

fn unpack(
    file: &[u8],
    wanted: Option<&str>,
    limits: Limits,
) -> Result<(String, Vec<u8>), ContainerError> {
    let mut file = Cursor::new(file);
    let source = Source::open(&mut file, wanted)?;
    let mut out = vec![0; 4 << 20];
    let mut unpacker = source.unpack(&mut file, limits)?;
    let len = unpacker.fill(&mut out)?;
    assert_eq!(unpacker.raw(), len as u64);
    drop(unpacker);
    out.truncate(len);
    assert!(source.raw_len().is_none_or(|known| known == len as u64));
    Ok((source.packing(), out))
}

fn open(file: &[u8]) -> Result<(String, Vec<u8>), ContainerError> {
    unpack(file, None, Limits::default())
}

#[test]
fn each_packing_gives_the_raw_bytes_also_in_several_parts() {
    let raw = image();
    assert_eq!(open(&raw).unwrap(), ("plain".into(), raw.clone()));
    for (name, pack) in PACKINGS {
        assert!(
            open(&pack(&raw)).unwrap() == (name.into(), raw.clone()),
            "{name}"
        );
        let (one, two) = raw.split_at(PROBE_LEN / 2 + 1);
        let parts = [pack(one), pack(two)].concat();
        assert!(
            open(&parts).unwrap() == (name.into(), raw.clone()),
            "{name} in parts"
        );
    }
    let twice = xz(&gz(&raw));
    assert!(open(&twice).unwrap() == ("xz and gzip".into(), raw));
}

#[test]
fn the_one_image_of_an_archive_is_taken_whatever_lies_beside_it() {
    let raw = image();
    let readme = "Read this first. ".repeat(1000);
    for method in [CompressionMethod::Stored, CompressionMethod::Deflated] {
        for (large, stream) in [(false, false), (true, false), (false, true)] {
            let files: [(&str, &[u8]); 3] = [
                ("README.txt", readme.as_bytes()),
                ("quaylink/images/quaylink.bin", &raw),
                ("quaylink/sums.txt", b"0123"),
            ];
            let zip = archive(&files, method, large, stream);
            assert!(
                open(&zip).unwrap() == ("zip".into(), raw.clone()),
                "{method} {large} {stream}"
            );
        }
    }
    for (name, pack) in PACKINGS {
        let zip = archive(
            &[("notes", b"words"), ("image", &pack(&raw))],
            CompressionMethod::Stored,
            false,
            false,
        );
        assert!(
            open(&zip).unwrap() == (format!("zip and {name}"), raw.clone()),
            "{name}"
        );
    }
}

#[test]
fn several_images_must_be_named_and_none_is_a_refusal_that_lists_what_is_there() {
    let raw = image();
    let mut other = raw.clone();
    other[100_000] ^= 1;
    let deflated = CompressionMethod::Deflated;
    let zip = archive(
        &[
            ("a/plover.img", &raw),
            ("b/curlew.img", &other),
            ("readme", b"x"),
        ],
        deflated,
        false,
        false,
    );
    let error = open(&zip).err().unwrap().to_string();
    assert_eq!(
        error,
        "the archive holds several disk images, name the one to take: a/plover.img, b/curlew.img"
    );
    let take = |name| unpack(&zip, Some(name), Limits::default());
    assert!(take("b/curlew.img").unwrap().1 == other);
    assert!(take("curlew.img").unwrap().1 == other);
    let error = take("readme").err().unwrap().to_string();
    assert!(
        error.contains("\"readme\" in the archive is no disk image: it begins neither"),
        "{error}"
    );
    let error = take("none").err().unwrap().to_string();
    assert!(error.contains("no disk image named \"none\""), "{error}");

    let zip = archive(
        &[
            ("../../etc/passwd", b"words"),
            (
                "photo.png",
                b"\x89PNG and so on, some more bytes, enough of them to be looked at",
            ),
        ],
        deflated,
        false,
        false,
    );
    let error = open(&zip).err().unwrap().to_string();
    assert_eq!(
        error,
        "there is no disk image in the archive; it holds ../../etc/passwd, photo.png"
    );
    let error = unpack(&gz(&raw), Some("a"), Limits::default())
        .err()
        .unwrap();
    assert!(matches!(error, ContainerError::NoArchive { .. }), "{error}");
}

#[test]
fn a_truncated_file_is_named_as_such_with_the_position() {
    for (name, pack) in PACKINGS {
        let mut packed = pack(&image());
        packed.truncate(packed.len() - packed.len() / 4);
        let error = open(&packed).err().unwrap();
        let ContainerError::Truncated {
            packed: at, raw, ..
        } = &error
        else {
            panic!("{name}: {error}");
        };
        assert_eq!(*at, packed.len() as u64, "{name}");
        assert!(
            *raw > 0 && error.to_string().contains("end early"),
            "{name}: {error}"
        );
    }
    let mut zip = archive(
        &[("image", &image())],
        CompressionMethod::Deflated,
        false,
        false,
    );
    zip.truncate(zip.len() / 2);
    let error = open(&zip).err().unwrap().to_string();
    assert!(error.contains("cut off after"), "{error}");
}

#[test]
fn a_damaged_file_is_named_as_such() {
    for (name, pack) in PACKINGS {
        let mut packed = pack(&image());
        let late = packed.len() * 3 / 4;
        packed[late..late + 40].fill(0x55);
        let error = open(&packed)
            .err()
            .unwrap_or_else(|| panic!("{name} went through"));
        assert!(
            matches!(error, ContainerError::Damaged { .. }),
            "{name}: {error}"
        );
    }
    // A changed byte of a stored member is found by the archive's checksum alone.
    let mut zip = archive(
        &[("image", &image())],
        CompressionMethod::Stored,
        false,
        false,
    );
    zip[1 << 20] ^= 1;
    let error = open(&zip).err().unwrap().to_string();
    assert!(error.contains("checksum in the archive"), "{error}");
}

#[test]
fn what_is_no_image_is_refused_by_name() {
    let mut tar = vec![0; 4096];
    tar[257..262].copy_from_slice(b"ustar");
    for (bytes, words) in [
        (b"%PDF-1.7 a guide".to_vec(), "PDF document"),
        (b"<!DOCTYPE html><p>please sign in".to_vec(), "web page"),
        (gz(&tar), "tar archive"),
        (tar, "tar archive"),
        (b"just some text".to_vec(), "neither with a partition table"),
        (xz(b"just some text"), "neither with a partition table"),
        (vec![0; 1 << 20], "neither with a partition table"),
        (Vec::new(), "neither with a partition table"),
        (gz(&gz(&gz(&gz(&image())))), "packed more than 3 times"),
    ] {
        let error = open(&bytes).err().unwrap().to_string();
        assert!(error.contains(words), "{words}: {error}");
    }
}

#[test]
fn bombs_are_stopped_early() {
    let error = unpack(
        &gz(&image()),
        None,
        Limits {
            raw: 1 << 20,
            swell: u64::MAX,
        },
    )
    .err()
    .unwrap();
    assert!(
        matches!(error, ContainerError::TooLarge { most: 0x10_0000 }),
        "{error}"
    );

    // Three gigabytes of zeros in a few kilobytes.
    let zeros = image();
    let mut enc = zstd::stream::Encoder::new(Vec::new(), 1).unwrap();
    enc.write_all(&zeros[..4096]).unwrap();
    let piece = vec![0; 1 << 20];
    for _ in 0..3 << 10 {
        enc.write_all(&piece).unwrap();
    }
    let bomb = zst(&enc.finish().unwrap());
    let mut file = Cursor::new(bomb.as_slice());
    let source = Source::open(&mut file, None).unwrap();
    let mut unpacker = source
        .unpack(
            &mut file,
            Limits {
                raw: u64::MAX,
                swell: 50_000,
            },
        )
        .unwrap();
    let mut buf = vec![0; 1 << 20];
    let error = loop {
        match unpacker.fill(&mut buf) {
            Ok(0) => panic!("it went through"),
            Ok(_) => {}
            Err(e) => break e,
        }
    };
    assert!(
        matches!(error, ContainerError::Swells { raw, .. } if raw < 2 << 30),
        "{error}"
    );
}

#[test]
fn memory_that_a_file_asks_for_is_capped() {
    // A frame whose header asks for a window of 2 GiB.
    let mut enc = zstd::stream::Encoder::new(Vec::new(), 1).unwrap();
    enc.window_log(31).unwrap();
    enc.include_contentsize(false).unwrap();
    enc.write_all(&image()).unwrap();
    let error = open(&enc.finish().unwrap()).err().unwrap();
    assert!(matches!(error, ContainerError::Damaged { .. }), "{error}");
    let mut options = liblzma::stream::LzmaOptions::new_preset(1).unwrap();
    options.dict_size(512 << 20);
    let mut filters = liblzma::stream::Filters::new();
    filters.lzma2(&options);
    let stream =
        liblzma::stream::Stream::new_stream_encoder(&filters, liblzma::stream::Check::Crc32)
            .unwrap();
    let mut enc = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
    enc.write_all(&image()).unwrap();
    let error = open(&enc.finish().unwrap()).err().unwrap();
    assert!(matches!(error, ContainerError::Damaged { .. }), "{error}");
}

#[test]
fn any_bytes_give_an_answer() {
    let base = archive(
        &[("image", &image()), ("more", b"words")],
        CompressionMethod::Deflated,
        false,
        false,
    );
    let mut state = 0x9e37_79b9_7f4a_7c15_u64;
    let mut next = |below: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state as usize % below
    };
    for _ in 0..150 {
        let mut bytes = base.clone();
        let from = if next(2) == 0 { bytes.len() - 300 } else { 0 };
        for _ in 0..1 + next(8) {
            let at = from + next(bytes.len().min(300));
            bytes[at] = next(256) as u8;
        }
        if next(3) == 0 {
            bytes.truncate(next(bytes.len()));
        }
        let _ = open(&bytes);
    }
}

#[test]
fn zeros_behind_gzip_data_are_left_out_and_counted() {
    let image = image();
    let mut padded = gz(&image[..1 << 20]);
    padded.extend(gz(&image[1 << 20..]));
    padded.extend(vec![0; 70_000]);
    let file = padded.clone();
    let source = Source::open(&mut Cursor::new(&file), None).unwrap();
    let mut unpacker = source
        .unpack(Cursor::new(&file), Limits::default())
        .unwrap();
    let mut raw = vec![0; image.len() + 1];
    let filled = unpacker.fill(&mut raw).unwrap();
    assert!(filled == image.len() && raw[..filled] == image);
    assert_eq!(unpacker.padding(), 70_000);
    drop(unpacker);
    // Anything else behind is damage.
    padded.push(7);
    let source = Source::open(&mut Cursor::new(&padded), None).unwrap();
    let mut unpacker = source
        .unpack(Cursor::new(&padded), Limits::default())
        .unwrap();
    assert!(unpacker.fill(&mut raw).is_err());
}

#[test]
fn checksum_files_in_an_archive_are_found_and_a_member_says_why_it_is_no_image() {
    let image = image();
    let files: [(&str, &[u8]); 3] = [
        ("SHA256SUMS", b"00  x.img\n"),
        ("x.img", &image),
        (
            "notes.txt",
            b"a long text that is certainly no disk image, and much longer than the least of them",
        ),
    ];
    let packed = archive(&files, CompressionMethod::Deflated, false, false);
    let source = Source::open(&mut Cursor::new(&packed), None).unwrap();
    assert_eq!(
        source.checksums(),
        [("SHA256SUMS".to_owned(), "00  x.img\n".to_owned())]
    );
    let refused = Source::open(&mut Cursor::new(&packed), Some("notes.txt")).unwrap_err();
    assert!(
        refused
            .to_string()
            .contains("neither with a partition table"),
        "{refused}"
    );
}

#[test]
fn an_archive_that_promises_too_many_files_is_refused_at_once() {
    let begun = std::time::Instant::now();
    let names: Vec<String> = (0..30_000).map(|number| format!("{number}")).collect();
    let files: Vec<(&str, &[u8])> = names
        .iter()
        .map(|name| (name.as_str(), &[b'x'; 80][..]))
        .collect();
    let packed = archive(&files, CompressionMethod::Stored, false, false);
    let refused = Source::open(&mut Cursor::new(&packed), None).unwrap_err();
    assert!(
        refused.to_string().contains("larger than any archive"),
        "{refused}"
    );
    assert!(begun.elapsed() < std::time::Duration::from_secs(5));
}

#[test]
fn pages_and_older_packings_are_named() {
    for (head, says) in [
        (
            &b"<!doctype html><html>"[..],
            "gave a page in place of the file",
        ),
        (b"%PDF-1.7", "no disk image"),
        (
            b"\x5d\0\0\x80\0\xff\xff\xff\xff\xff\xff\xff\xff",
            "lzma file",
        ),
        (b"LZIP\x01", "lzip file"),
    ] {
        let mut file = head.to_vec();
        file.resize(4096, 0);
        let refused = Source::open(&mut Cursor::new(&file), None).unwrap_err();
        assert!(refused.to_string().contains(says), "{refused}");
    }
}
