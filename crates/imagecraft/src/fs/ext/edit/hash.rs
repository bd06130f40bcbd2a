//! The hashes that the index of a folder is sorted by (kernel documentation, "Hash Tree
//! Directories"): legacy, half MD4 and TEA, each with signed and unsigned characters.

/// The hash of a name by one of the six kinds, 0 to 5; `None` for others.
pub fn of_name(name: &[u8], kind: u8, seed: [u32; 4]) -> Option<u32> {
    const START: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];
    let mut state = if seed == [0; 4] { START } else { seed };
    let signed = kind < 3;
    let hash = match kind {
        0 | 3 => legacy(name, signed),
        1 | 4 => {
            for from in (0..name.len()).step_by(32) {
                half_md4(&mut state, &words(&name[from..], signed));
            }
            state[1]
        }
        2 | 5 => {
            for from in (0..name.len()).step_by(16) {
                tea(&mut state, &words(&name[from..], signed));
            }
            state[0]
        }
        _ => return None,
    };
    // The last value of all stands for the end of a folder.
    Some(match hash & !1 {
        0xffff_fffe => 0xffff_fffc,
        hash => hash,
    })
}

fn character(byte: u8, signed: bool) -> u32 {
    if signed {
        i32::from(byte as i8) as u32
    } else {
        u32::from(byte)
    }
}

/// The next characters as words, padded with the length of what is left.
fn words<const N: usize>(name: &[u8], signed: bool) -> [u32; N] {
    let pad = name.len() as u32 | (name.len() as u32) << 8;
    let pad = pad | pad << 16;
    let mut out = [pad; N];
    for (word, part) in out.iter_mut().zip(name.chunks(4)) {
        for byte in part {
            *word = character(*byte, signed).wrapping_add(*word << 8);
        }
    }
    out
}

fn legacy(name: &[u8], signed: bool) -> u32 {
    let (mut last, mut before) = (0x12a3_fe2d_u32, 0x37ab_e8f9_u32);
    for byte in name {
        let mixed = last ^ character(*byte, signed).wrapping_mul(7_152_373);
        let mut next = before.wrapping_add(mixed);
        if next & 0x8000_0000 != 0 {
            next = next.wrapping_sub(0x7fff_ffff);
        }
        before = last;
        last = next;
    }
    last << 1
}

fn tea(state: &mut [u32; 4], key: &[u32; 4]) {
    let (mut x, mut y, mut sum) = (state[0], state[1], 0_u32);
    for _ in 0..16 {
        sum = sum.wrapping_add(0x9e37_79b9);
        let mixed =
            (y << 4).wrapping_add(key[0]) ^ y.wrapping_add(sum) ^ (y >> 5).wrapping_add(key[1]);
        x = x.wrapping_add(mixed);
        let mixed =
            (x << 4).wrapping_add(key[2]) ^ x.wrapping_add(sum) ^ (x >> 5).wrapping_add(key[3]);
        y = y.wrapping_add(mixed);
    }
    state[0] = state[0].wrapping_add(x);
    state[1] = state[1].wrapping_add(y);
}

fn half_md4(state: &mut [u32; 4], words: &[u32; 8]) {
    type Mix = fn(u32, u32, u32) -> u32;
    let rounds: [(Mix, u32, [usize; 8], [u32; 4]); 3] = [
        (
            |x, y, z| z ^ (x & (y ^ z)),
            0,
            [0, 1, 2, 3, 4, 5, 6, 7],
            [3, 7, 11, 19],
        ),
        (
            |x, y, z| (x & y).wrapping_add((x ^ y) & z),
            0x5a82_7999,
            [1, 3, 5, 7, 0, 2, 4, 6],
            [3, 5, 9, 13],
        ),
        (
            |x, y, z| x ^ y ^ z,
            0x6ed9_eba1,
            [3, 7, 2, 6, 1, 5, 0, 4],
            [3, 9, 11, 15],
        ),
    ];
    let [mut a, mut b, mut c, mut d] = *state;
    for (mix, constant, order, turns) in rounds {
        for (step, word) in order.into_iter().enumerate() {
            let sum = a
                .wrapping_add(mix(b, c, d))
                .wrapping_add(words[word])
                .wrapping_add(constant)
                .rotate_left(turns[step % 4]);
            // The four words change their parts: what was computed is the second one next.
            (a, b, c, d) = (d, sum, b, c);
        }
    }
    for (word, more) in state.iter_mut().zip([a, b, c, d]) {
        *word = word.wrapping_add(more);
    }
}
