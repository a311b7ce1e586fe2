#version 330
// Views: -1 plain (no light yet), 0 result, 1 surface colour, 2 light, 3 direct, 4 bounced, 5 texel grid, 6 density,
// 7 facing, 8 noise.
uniform int view;
uniform float exposure;
uniform float side;
uniform vec3 base_color;
uniform vec3 emission;
uniform bool two_sided;
uniform bool unlit;  // drawn in its own colour, whatever the light
uniform float cutoff;  // below this alpha there is nothing; 0 where nothing has holes
uniform sampler2D picture;
uniform sampler2D glow_picture;
uniform sampler2DArray total_light;
uniform sampler2DArray direct_light;
uniform sampler2DArray noise_share;
in vec3 v_normal;
in vec2 v_picture_uv;
in vec2 v_light_uv;
flat in float v_page;
flat in float v_density;
flat in int v_flags;
out vec4 color;

const float PI = 3.14159265;
const float GREY = 0.6;

vec3 to_linear(vec3 c) { return mix(c / 12.92, pow((c + 0.055) / 1.055, vec3(2.4)), step(0.04045, c)); }
vec3 to_display(vec3 c) { return mix(12.92 * c, 1.055 * pow(max(c, vec3(1e-9)), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c)); }
// A soft shoulder, so that bright windows keep their colour.
vec3 tone(vec3 radiance) { return to_display(1.0 - exp(-max(radiance, vec3(0.0)) * exposure)); }

vec3 texel_grid(vec3 surface) {
    vec2 cell = floor(v_light_uv);
    float checker = mod(cell.x + cell.y, 2.0);
    // Where texels are smaller than pixels the checker would only flicker.
    float blur = clamp(max(fwidth(v_light_uv.x), fwidth(v_light_uv.y)) * 1.6 - 0.5, 0.0, 1.0);
    float shade = mix(0.42 + 0.30 * checker, 0.57, blur);
    float facing = 0.75 + 0.25 * normalize(v_normal).y;
    return vec3(shade * facing) * mix(vec3(1.0), surface / max(max(surface.r, max(surface.g, surface.b)), 0.05), 0.35);
}

// Density against what the distance of players asks for: too low, right, too high, never seen; each has a pattern.
vec3 density_view() {
    float low = 1.0 - step(0.5, v_density), high = step(2.0, v_density), unseen = step(1e6, v_density);
    vec3 tint = mix(mix(vec3(0.60, 0.60, 0.58), vec3(0.93, 0.60, 0.22), low), vec3(0.33, 0.53, 0.80), high);
    tint = mix(tint, vec3(0.40, 0.37, 0.45), unseen);
    vec2 p = gl_FragCoord.xy;
    float bars = step(0.72, fract(p.y / 9.0)) * low;
    float dots = step(length(fract(p / 9.0) - 0.5), 0.2) * high * (1.0 - unseen);
    float slant = step(0.8, fract((p.x + p.y) / 14.0)) * unseen;
    float grid = v_page < -0.5 ? 1.0 : mix(1.0, texel_grid(vec3(1.0)).r * 1.75, 0.5);
    return tint * grid * (1.0 - 0.30 * max(bars, max(dots, slant)));
}

// Noise as a share of the light: quiet plain, then amber with sparse bars, then red with close ones.
vec3 noise_view(float share) {
    float much = smoothstep(0.01, 0.03, share), most = smoothstep(0.03, 0.10, share);
    vec3 tint = mix(mix(vec3(0.62), vec3(0.90, 0.62, 0.26), much), vec3(0.72, 0.24, 0.16), most);
    vec2 p = gl_FragCoord.xy;
    float sparse = step(0.8, fract((p.x - p.y) / 15.0)) * step(0.02, share);
    float close = step(0.6, fract((p.x - p.y) / 7.5)) * step(0.07, share);
    float facing = 0.80 + 0.20 * abs(normalize(v_normal).y);
    return tint * facing * (1.0 - 0.22 * max(sparse, close));
}

// Which side of a surface is real: the front plain, a two-sided surface lighter, the back barred.
vec3 facing_view() {
    float shade = 0.72 + 0.28 * abs(normalize(v_normal).y);
    if (two_sided) return vec3(0.78, 0.74, 0.58) * shade;
    if (gl_FrontFacing) return vec3(0.58) * shade;
    float bars = step(0.5, fract((gl_FragCoord.x - gl_FragCoord.y) / 12.0));
    return mix(vec3(0.80, 0.36, 0.20), vec3(0.42, 0.16, 0.10), bars);
}

void main() {
    if (texture(picture, v_picture_uv).a < cutoff) discard;
    vec3 surface = base_color * to_linear(texture(picture, v_picture_uv).rgb);
    vec3 at = vec3(v_light_uv / side, v_page);
    vec3 total = texture(total_light, at).rgb;
    vec3 direct = texture(direct_light, at).rgb;
    vec3 shown;
    if (view == 0) shown = tone(surface * total / PI + emission * to_linear(texture(glow_picture, v_picture_uv).rgb));
    else if (view == 1) shown = to_display(surface);
    else if (view == 2) shown = tone(GREY * total / PI);
    else if (view == 3) shown = tone(GREY * direct / PI);
    else if (view == 4) shown = tone(GREY * max(total - direct, vec3(0.0)) / PI);
    else if (view == 5) shown = v_page < -0.5 ? surface * 0.5 : texel_grid(surface);
    else if (view == 6) shown = density_view();
    else if (view == 7) shown = facing_view();
    else if (view == 8) shown = noise_view(texture(noise_share, at).r);
    else {
        vec3 n = normalize(v_normal);
        float sky = 0.62 + 0.28 * n.y + 0.10 * n.x;
        shown = to_display(mix(vec3(dot(surface, vec3(0.2126, 0.7152, 0.0722))), surface, 0.6) * sky);
    }
    // What has no place in this light says so, instead of being black.
    bool of_light = view == 0 || (view >= 2 && view <= 4) || view == 8;
    if (unlit && of_light) shown = to_display(surface) * (view == 0 ? 1.0 : 0.35);
    else if (v_page < -0.5 && of_light) {
        float hatch = step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 16.0));
        shown = to_display(surface * 0.35) * (0.82 + 0.18 * hatch) + 0.05 * hatch;
    }
    if (view != 7 && !gl_FrontFacing && !two_sided) shown = vec3(0.16) + 0.05 * step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 10.0));
    if ((v_flags & 2) != 0) shown = mix(shown, vec3(0.86, 0.64, 0.36), 0.10);
    color = vec4(shown, 1.0);
}
