//! The hash directories are indexed by: MD4 cut in half, over unsigned characters.

fn rounds(state: &mut [u32; 4], input: &[u32; 8]) {
    let [mut a, mut b, mut c, mut d] = *state;
    let f = |x: u32, y: u32, z: u32| z ^ (x & (y ^ z));
    let g = |x: u32, y: u32, z: u32| (x & y).wrapping_add((x ^ y) & z);
    let h = |x: u32, y: u32, z: u32| x ^ y ^ z;
    let mut round = |mix: &dyn Fn(u32, u32, u32) -> u32, constant: u32, order: [usize; 8], shifts: [u32; 4]| {
        for (step, &at) in order.iter().enumerate() {
            let sum = a.wrapping_add(mix(b, c, d)).wrapping_add(input[at]).wrapping_add(constant);
            (a, b, c, d) = (d, sum.rotate_left(shifts[step % 4]), b, c);
        }
    };
    round(&f, 0, [0, 1, 2, 3, 4, 5, 6, 7], [3, 7, 11, 19]);
    round(&g, 0x5a82_7999, [1, 3, 5, 7, 0, 2, 4, 6], [3, 5, 9, 13]);
    round(&h, 0x6ed9_eba1, [3, 7, 2, 6, 1, 5, 0, 4], [3, 9, 11, 15]);
    for (slot, value) in state.iter_mut().zip([a, b, c, d]) {
        *slot = slot.wrapping_add(value);
    }
}

/// The hash of a name, its lowest bit clear.
pub(super) fn half_md4(name: &[u8], seed: &[u32; 4]) -> u32 {
    let mut state = *seed;
    let mut rest = name;
    while !rest.is_empty() {
        let left = rest.len() as u32;
        let pad = (left | left << 8) | (left | left << 8) << 16;
        let mut input = [pad; 8];
        for (slot, bytes) in input.iter_mut().zip(rest.chunks(4)) {
            *slot = bytes.iter().fold(pad, |value, byte| u32::from(*byte).wrapping_add(value << 8));
        }
        rounds(&mut state, &input);
        rest = &rest[rest.len().min(32)..];
    }
    let hash = state[1] & !1;
    // The largest value means the end of the directory.
    if hash == 0xffff_fffe { 0xffff_fffc } else { hash }
}
