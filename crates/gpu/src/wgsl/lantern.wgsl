const SHORE: i32 = 800;
const LANTERNS: u32 = 14u;
const REACH: i32 = 378;

fn star(column: i32, row: i32) -> i32 {
    let dice = hash(u32(column), u32(row), 11u);
    if dice % 149u == 0u {
        return 120 + i32((dice >> 20u) & 63u);
    }
    return 0;
}

fn sky(x: i32, y: i32) -> vec3<i32> {
    let depth = y * 256 / SHORE;
    let dusk = depth * depth / 256;
    var twinkle = 0;
    if depth < 170 {
        twinkle = star(x / 16, y / 16);
    }
    return vec3(14 + dusk * 120 / 256 + twinkle, 18 + dusk * 62 / 256 + twinkle, 46 + dusk * 40 / 256 + twinkle);
}

fn backdrop(x: i32, y: i32, number: i32) -> vec3<i32> {
    let drift = number * 512 / PASS;
    let far = ridge(rem(x + drift * 2, WIDTH), 320, 3u) / 2 + 90;
    let near = ridge(rem(x + drift * 4, WIDTH), 210, 9u) / 3 + 8;
    let above = SHORE - y;
    if above < near {
        return vec3(10, 16, 22);
    }
    if above < far {
        return vec3(24, 32, 52);
    }
    return sky(x, y);
}

fn air(x: i32, y: i32, number: i32) -> vec3<i32> {
    var colour = backdrop(x, y, number);
    for (var index = 0u; index < LANTERNS; index++) {
        let dice = hash(index, 0x51u, 7u);
        let rounds = 1 + i32(dice & 1u);
        let span = SHORE + 320;
        let phase = i32(dice >> 3u) & 0x3fff;
        let risen = (number * rounds * span / PASS + phase) % span;
        let sway = wave(number * (1 + i32((dice >> 20u) & 1u)) + i32((dice >> 8u) & 0xffu), 240) - 128;
        let warmth = i32(dice >> 24u) & 63;
        let dx = x - ((i32(dice >> 5u) & 0x7ff) % WIDTH + sway / 3);
        let dy = y - (SHORE - 24 - risen + 160);
        if abs(dx) > REACH || abs(dy) > REACH {
            continue;
        }
        let size = 380 + i32((dice >> 17u) & 0xffu) * 2;
        let squared = (dx * dx + dy * dy) / 64;
        var glow = min(size * 5 / (squared + 6), 200);
        if dx * dx * 3 + dy * dy * 2 < size * 16 {
            glow = 250;
        }
        colour += vec3(255, 150 + warmth, 60 + warmth / 2) * glow / 256;
    }
    return colour;
}

fn picture(x: i32, y: i32) -> vec3<i32> {
    let number = params.number;
    if y < SHORE {
        return air(x, y, number);
    }
    let depth = y - SHORE;
    let ripple = wave(depth * 3 + number * 10, 160) - 128;
    let given = air(x + ripple * depth / 700, SHORE - depth * 2 - 8 + ripple / 8, number);
    var sheen = 0;
    if hash(u32(x / 24 + number / 6), u32(y / 16), 5u) % 23u == 0u {
        sheen = 14;
    }
    return vec3(given.x * 5 / 8 + sheen, given.y * 5 / 8 + 4 + sheen, given.z * 5 / 8 + 12 + sheen);
}
