const SILL: i32 = 416;
const REPEAT: i32 = 32;
const GATES: i32 = 4;
const GATE_WIDE: i32 = 512;

fn post(x: i32, y: i32) -> vec3<i32> {
    let across = rem(x + 48, GATE_WIDE);
    let plank = i32(hash(u32(y / 80), u32(x / GATE_WIDE), 3u)) & 15;
    return lit(vec3(110 + plank, 84 + plank, 58), 120 + wave(across, 96) / 2);
}

fn opened(gate: i32, number: i32) -> i32 {
    return 64 + wave(number * (1 + gate % 3) + gate * 90, 480) * 3 / 4;
}

fn sheet(x: i32, y: i32, number: i32, rounds: i32) -> vec3<i32> {
    let run = travelled(number, rounds, REPEAT * 64);
    let fine = noise(x * 4, y - run, 64, REPEAT, 5u);
    let broad = noise(x * 2, y - run / 2, 128, REPEAT / 2, 6u);
    return blend(vec3(22, 74, 92), vec3(232, 244, 240), clamp(fine * 2 + broad - 300, 0, 256));
}

fn above(x: i32, y: i32, number: i32) -> vec3<i32> {
    let gate = x / GATE_WIDE;
    let lifted = opened(gate, number) * 9 * 16 / 256;
    if y > 128 - lifted && y < SILL - lifted {
        let board = (y + lifted) / 64;
        let grain = i32(hash(u32(board), u32(x / 48), 9u)) & 15;
        if (y + lifted) % 64 < 8 {
            return vec3(26, 24, 20);
        }
        return vec3(66 + grain, 58 + grain, 44);
    }
    if y < 128 {
        let cloud = noise(x + wave(number, 480), y * 2, 256, 8, 14u);
        return blend(vec3(120, 156, 178), vec3(206, 214, 210), cloud);
    }
    return sheet(x, y, number, 2);
}

fn rush_at(x: i32, number: i32) -> i32 {
    let from_middle = x - GATE_WIDE / 2;
    let gate = div(from_middle, GATE_WIDE);
    let along = rem(from_middle, GATE_WIDE);
    let here = opened(clamp(gate, 0, GATES - 1), number);
    let next = opened(clamp(gate + 1, 0, GATES - 1), number);
    return (here * (GATE_WIDE - along) + next * along) / GATE_WIDE;
}

fn cobbles(x: i32, y: i32) -> vec3<i32> {
    let row = div(y, 112);
    let shifted = x + rem(row, 2) * 112 / 2;
    let dice = i32(hash(u32(div(shifted, 112)), u32(row), 77u));
    let dx = rem(shifted, 112) - 56;
    let dy = rem(y, 112) - 56;
    let round = (dx * dx + dy * dy) * 256 / (112 * 112 / 4);
    let shade = 70 + (dice & 63) - round / 8 + (HEIGHT - y) / 40;
    return vec3(shade, shade - 6, shade - 14 + ((dice >> 8u) & 15));
}

fn below(x: i32, y: i32, number: i32) -> vec3<i32> {
    let depth = y - SILL;
    let rush = rush_at(x, number) - depth / 8;
    let dx = wave(y * 2 + number * 24, 320) / 6 - 21;
    let dy = wave(x * 2 + number * 16, 512) / 8 - 16;
    let bed = cobbles(x + dx, y + dy);
    let water = blend(bed, vec3(28, 96, 108), 150 + depth / 16);
    let foam = sheet(x + dx, y, number, 8);
    return blend(water, foam, clamp(rush * 3 / 4, 24, 236));
}

fn picture(x: i32, y: i32) -> vec3<i32> {
    let number = params.number;
    if rem(x + 48, GATE_WIDE) < 96 && y < SILL + 144 {
        return post(x, y);
    }
    if y < SILL {
        return above(x, y, number);
    }
    return below(x, y, number);
}
