const SEA: i32 = 768;
const TOWER: i32 = 480;

fn is_bolt(x: i32, y: i32, strike: i32) -> bool {
    let start = i32(hash(u32(strike), 2u, 6u) & 1023u) + 600;
    var aside = 0;
    for (var step = 0; step <= y / 64; step++) {
        aside += i32(hash(u32(strike), u32(step), 12u) & 127u) - 64;
    }
    return abs(x - start - aside) < 14;
}

fn sky(x: i32, y: i32, number: i32, flash: i32) -> vec3<i32> {
    let drift = travelled(number, 4, WIDTH);
    let cloud = (noise(x + drift, y, 256, 8, 3u) * 2 + noise(x + drift * 2, y, 128, 16, 4u)) / 3;
    let colour = blend(vec3(14, 18, 28), vec3(74, 82, 96), cloud);
    if flash > 90 && is_bolt(x, y, number / 3) {
        return vec3(248, 246, 255);
    }
    return vec3(colour.x + flash, colour.y + flash, colour.z + flash * 9 / 8);
}

fn crest(x: i32, number: i32, row: i32) -> i32 {
    let run = travelled(number, 6 - row, WIDTH);
    return wave(x + run + row * 170, 512) / 3 + wave(x * 2 - run, 683 - row * 40) / 5 - 60;
}

fn sea(x: i32, y: i32, number: i32, flash: i32) -> vec3<i32> {
    var row = 0;
    for (var nearest = 4; nearest >= 0; nearest--) {
        if y > SEA + nearest * 110 - crest(x, number, nearest) {
            row = nearest;
            break;
        }
    }
    let below = y - (SEA + row * 110 - crest(x, number, row));
    let deep = blend(vec3(62, 96, 104), vec3(12, 30, 44), below * 2);
    let foam = noise(x * 2 + travelled(number, 4, WIDTH), y * 3, 64, 64, 9u);
    var colour = deep;
    if below < 20 + foam / 6 {
        colour = blend(deep, vec3(214, 226, 226), foam);
    }
    return lit(colour, 200 + flash / 2 + row * 10);
}

fn picture(x: i32, y: i32) -> vec3<i32> {
    let number = params.number;
    let gust = params.gust != 0u;
    var flash = 0;
    if gust {
        flash = i32(hash(u32(number) / 3u, 1u, 5u) & 127u);
    }
    // The tower, its lamp and its rock.
    let aside = abs(x - TOWER);
    let foot = SEA + 60;
    let rock = foot - 40 + aside / 3;
    var colour: vec3<i32>;
    if y >= 320 && y < foot && aside < 56 + (y - 320) / 10 {
        let band = (y - 320) / 96 % 2 == 0;
        let own = select(vec3(222, 218, 206), vec3(186, 62, 54), band);
        colour = lit(lit(own, 256 - aside * 2), 150 + flash);
    } else if y >= 240 && y < 320 && aside < 44 {
        colour = lit(vec3(255, 238, 170), 150 + flash);
    } else if aside < 330 && y > rock && y < HEIGHT {
        colour = lit(vec3(34, 32, 34), 150 + flash);
    } else if y < SEA - crest(x, number, 0) {
        colour = sky(x, y, number, flash);
    } else {
        colour = sea(x, y, number, flash);
    }
    // The beam of the lighthouse.
    let turn = number * 8 % 480;
    let reach = wave(turn * 2, 480) * 8 - 1024;
    let dx = x - TOWER;
    let dy = y - 272;
    let towards = select(-dx, dx, turn < 240);
    let wide = towards / 6 + 12;
    if towards > 40 && reach > -900 && abs(dy) < wide {
        let light = max(90 - towards / 24, 0) * (wide - abs(dy)) / wide;
        colour += vec3(light, light, light * 3 / 4);
    }
    // The rain.
    let slant = x * 2 + y / 2 + travelled(number, 24, WIDTH * 2);
    let fallen = y - travelled(number, 40, HEIGHT);
    let dice = hash(u32(slant / 24), u32(rem(div(fallen, 160), 288)), 55u);
    if dice % 100u < select(7u, 16u, gust) && rem(fallen, 160) < 90 {
        colour = blend(colour, vec3(168, 184, 198), 90);
    }
    return colour;
}
