const REPEAT: i32 = 48;
const FLOOR: i32 = 992;

fn in_arch(x: i32, y: i32) -> bool {
    let aside = abs(x - WIDTH / 2);
    if aside >= 832 || y >= FLOOR {
        return false;
    }
    let above = max(544 - y, 0);
    let a = aside * 256 / 832;
    let b = above * 256 / 416;
    return a * a + b * b < 65536;
}

fn flames(x: i32, y: i32, number: i32) -> i32 {
    var heat = 0;
    var size = 256;
    for (var layer = 0; layer < 4; layer++) {
        let risen = travelled(number, 2 << u32(layer), REPEAT * size);
        let sway = wave(y + number * 8 + layer * 300, 640) / 8;
        heat += noise(x + sway, y + risen, size, REPEAT, 21u + u32(layer)) / (layer + 1);
        size /= 2;
    }
    let from_floor = max(FLOOR - y, 0);
    let middle = abs(x - WIDTH / 2) / 12;
    return heat * 3 / 4 + 90 - from_floor / 4 - middle;
}

fn glow(heat: i32) -> vec3<i32> {
    if heat < 60 {
        return blend(vec3(16, 6, 8), vec3(96, 16, 8), heat * 4);
    }
    if heat < 140 {
        return blend(vec3(96, 16, 8), vec3(238, 92, 16), (heat - 60) * 16 / 5);
    }
    if heat < 230 {
        return blend(vec3(238, 92, 16), vec3(255, 208, 84), (heat - 140) * 17 / 6);
    }
    return blend(vec3(255, 208, 84), vec3(255, 250, 226), (heat - 230) * 3);
}

// How near a place is to the middle of the first pot that it is on, 1 to 256; 0 where it is on none.
fn pot(x: i32, y: i32) -> i32 {
    for (var index = 0; index < 5; index++) {
        let dice = i32(hash(u32(index), 4u, 17u)) & 0xff;
        let cx = WIDTH / 2 - 580 + index * 290;
        let tall = 190 + dice / 2;
        let cy = FLOOR - tall;
        let dx = min(abs(x - cx), 512);
        let dy = abs(y - cy);
        var width = 98;
        if y < cy {
            width = 98 - min(dy, tall) * 52 / tall;
        }
        let a = dx * 256 / width;
        let b = dy * 256 / tall;
        let far = (a * a + b * b) / 256;
        if far < 256 && y < FLOOR {
            return 256 - far;
        }
    }
    return 0;
}

fn bricks(x: i32, y: i32, breath: i32) -> vec3<i32> {
    let row = y / 96;
    let shifted = x + row % 2 * 224 / 2;
    let mortar = shifted % 224 < 14 || y % 96 < 14;
    let dice = i32(hash(u32(shifted / 224), u32(row), 31u) & 31u);
    var own = vec3(112 + dice, 54 + dice / 2, 40);
    if mortar {
        own = vec3(44, 38, 36);
    }
    let away = abs(x - WIDTH / 2) / 8 + abs(HEIGHT * 3 / 4 - y) / 6;
    return lit(own, clamp(300 - away + breath / 5, 50, 300));
}

fn picture(x: i32, y: i32) -> vec3<i32> {
    let number = params.number;
    let breath = wave(number * 2, 480);
    if !in_arch(x, y) {
        return bricks(x, y, breath);
    }
    let heat = flames(x, y, number) + breath / 8;
    let edge = pot(x, y);
    if edge > 0 {
        return blend(vec3(34, 14, 12), vec3(255, 128, 40), (256 - edge) * (heat + 60) / 420);
    }
    return glow(heat);
}
