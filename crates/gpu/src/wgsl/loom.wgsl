const PITCH: i32 = 56;
const FELL: i32 = 480;
const PICKS: i32 = 96;

fn is_over(at_column: i32, at_row: i32) -> bool {
    let column = rem(at_column, 24);
    let row = rem(at_row, 12);
    let folded = select(23 - column, column, column < 12);
    return (folded + row) % 6 < 3;
}

fn warp_colour(column: i32) -> vec3<i32> {
    let at = rem(column, 12);
    if at <= 1 {
        return vec3(222, 176, 92);
    }
    if at == 5 || at == 6 {
        return vec3(96, 58, 110);
    }
    return vec3(172, 60, 62);
}

fn weft_colour(row: i32) -> vec3<i32> {
    let at = rem(row, 12);
    if at == 3 {
        return vec3(226, 196, 128);
    }
    if at == 8 || at == 9 {
        return vec3(46, 92, 104);
    }
    return vec3(58, 44, 78);
}

fn cloth(x: i32, y: i32) -> vec3<i32> {
    let column = div(x, PITCH);
    let row = div(y, PITCH);
    let across = wave(x, PITCH);
    let down = wave(y, PITCH);
    let fibre = i32(hash(u32(x / 8), u32(rem(y / 8, 42)), 41u) & 31u);
    if is_over(column, row) {
        return lit(warp_colour(column), 90 + across / 2 + down / 4 + fibre);
    }
    return lit(weft_colour(row), 100 + down / 2 + across / 4 + fibre);
}

fn warp(x: i32, y: i32, pick: i32, into_pick: i32) -> vec3<i32> {
    let column = div(x, PITCH);
    let raised = is_over(column, pick);
    let apart = wave(into_pick, 256) * (FELL - y) / 5000;
    let shift = select(apart, -apart, raised);
    let across = rem(x + shift, PITCH);
    if across < 14 {
        let ground = 34 + (FELL - y) / 40;
        return vec3(ground / 2, ground / 2 + 2, ground / 2 + 8);
    }
    let light = select(130, 250, raised) - (FELL - y) / 8;
    let thread = lit(warp_colour(column), light + wave(across, PITCH) / 6);
    if y > FELL - 80 && y < FELL - 32 {
        return blend(thread, vec3(196, 182, 150), 150);
    }
    return thread;
}

fn picture(x: i32, y: i32) -> vec3<i32> {
    let number = params.number;
    let woven = travelled(number, PICKS, PITCH);
    let frames = 480 / PICKS;
    let into_pick = number % frames * 256 / frames;
    let pick = number / frames;
    // The shuttle.
    let there = into_pick * (WIDTH + 480) / 256 - 240;
    let cx = select(WIDTH - there, there, pick % 2 == 0);
    let dx = abs(x - cx);
    let dy = abs(y - (FELL - 144));
    let half = 52 - dx * 52 / 240;
    if dx < 240 && dy < max(half, 1) && y < HEIGHT {
        if dx < 80 && dy < half / 2 {
            return weft_colour(pick);
        }
        return lit(vec3(206, 154, 96), 280 - dy * 3);
    }
    if y < FELL {
        return warp(x, y, pick, into_pick);
    }
    return cloth(x, y + woven);
}
