// What every scene is painted with, as in the scenes' own code for the processor: integers alone, so that both give the
// same bits.

const WIDTH: i32 = 2048;
const HEIGHT: i32 = 1152;
const PASS: i32 = 480;

@group(0) @binding(1) var<storage, read_write> pixels: array<u32>;
@group(0) @binding(2) var<storage, read_write> counts: array<atomic<u32>, 4>;

fn rem(a: i32, b: i32) -> i32 {
    let r = a % b;
    return select(r, r + b, r < 0);
}

fn div(a: i32, b: i32) -> i32 {
    let q = a / b;
    return select(q, q - 1, a % b < 0);
}

fn pack(colour: vec3<i32>) -> u32 {
    let byte = vec3<u32>(clamp(colour, vec3<i32>(0), vec3<i32>(255)));
    return (byte.x << 16u) | (byte.y << 8u) | byte.z;
}

fn blend(a: vec3<i32>, b: vec3<i32>, share: i32) -> vec3<i32> {
    return a + (b - a) * clamp(share, 0, 256) / 256;
}

fn lit(colour: vec3<i32>, amount: i32) -> vec3<i32> {
    return colour * amount / 256;
}

fn travelled(number: i32, rounds: i32, span: i32) -> i32 {
    return number * rounds * span / PASS;
}

fn wave(at: i32, period: i32) -> i32 {
    let place = rem(at, period) * 1024 / period;
    return place * (1024 - place) / 1024;
}

fn hash(a: u32, b: u32, salt: u32) -> u32 {
    var h = (a * 0x9e3779b1u) ^ (b * 0x85ebca77u) ^ (salt * 0xc2b2ae3du);
    h ^= h >> 15u;
    h *= 0x2c1b3c6du;
    h ^= h >> 12u;
    h *= 0x297a2d39u;
    return h ^ (h >> 15u);
}

fn ridge_lattice(cell: i32, salt: u32) -> i32 {
    return i32(hash(u32(rem(cell, 16)), salt, 3u) & 0xffu);
}

fn ridge(x: i32, height: i32, salt: u32) -> i32 {
    let cell = rem(x, WIDTH) / 128;
    let along = rem(x, 128);
    return (ridge_lattice(cell, salt) * (128 - along) + ridge_lattice(cell + 1, salt) * along) / 128 * height / 256;
}

fn noise_lattice(column: i32, row: i32, salt: u32) -> i32 {
    return i32(hash(u32(column), u32(row), salt) & 0xffu);
}

fn noise(x: i32, y: i32, size: i32, repeat: i32, salt: u32) -> i32 {
    let shift = countTrailingZeros(u32(size));
    let within = size - 1;
    let across = x & within;
    let down = y & within;
    let mask = 4 * WIDTH / size - 1;
    let left = (x >> shift) & mask;
    let right = ((x >> shift) + 1) & mask;
    let top = rem(y >> shift, repeat);
    let bottom = rem((y >> shift) + 1, repeat);
    let above = (noise_lattice(left, top, salt) * (size - across) + noise_lattice(right, top, salt) * across) >> shift;
    let below = (noise_lattice(left, bottom, salt) * (size - across) + noise_lattice(right, bottom, salt) * across) >> shift;
    return (above * (size - down) + below * down) >> shift;
}

fn place(column: u32, row: u32) -> vec2<i32> {
    return vec2<i32>(i32(column) * WIDTH / i32(params.width), i32(row) * HEIGHT / i32(params.height));
}
