#version 330
// The views are put in by `renderer.py`, from `views.View`.
uniform int view;  // -1 is none of them: surfaces without light
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
uniform sampler2DArray origin_part;
uniform sampler2DArray other_light;
uniform sampler2DArray ray_shares;
uniform float split;  // pixels from the left, where two builds meet
uniform float gain;
uniform vec3 eye;  // where one looks from, as `v_place`
uniform float blend;  // metres from the eye within which hybrid lights are live
uniform int lamp_count;
uniform mat4 lamps[16];  // see `lamps.py`
in vec3 v_normal;
in vec3 v_place;  // from the level's centre
in vec2 v_picture_uv;
in vec2 v_light_uv;
flat in float v_page;
flat in float v_density;
flat in float v_chart;
flat in int v_flags;
out vec4 color;

const float PI = 3.14159265;
const float GREY = 0.6;

vec3 to_linear(vec3 c) { return mix(c / 12.92, pow((c + 0.055) / 1.055, vec3(2.4)), step(0.04045, c)); }
vec3 to_display(vec3 c) { return mix(12.92 * c, 1.055 * pow(max(c, vec3(1e-9)), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c)); }
// A soft shoulder, so that bright windows keep their colour.
vec3 tone(vec3 radiance) { return to_display(1.0 - exp(-max(radiance, vec3(0.0)) * exposure)); }

// How bad a share is: plain, then amber with sparse bars, then red with close ones.
// grades: where amber begins and is full, where red begins and is full; bars: where sparse and close ones begin.
vec3 graded(float share, vec4 grades, vec2 bars) {
    float much = smoothstep(grades.x, grades.y, share), most = smoothstep(grades.z, grades.w, share);
    vec3 tint = mix(mix(vec3(0.62), vec3(0.90, 0.62, 0.26), much), vec3(0.72, 0.24, 0.16), most);
    vec2 p = gl_FragCoord.xy;
    float sparse = step(0.8, fract((p.x - p.y) / 15.0)) * step(bars.x, share);
    float close = step(0.6, fract((p.x - p.y) / 7.5)) * step(bars.y, share);
    return tint * (0.80 + 0.20 * abs(normalize(v_normal).y)) * (1.0 - 0.22 * max(sparse, close));
}

// What a view's rule may use.
vec3 surface, total, direct, glow;
float noise, origin;
vec4 other;
vec2 around;

//VIEWS//

void main() {
    if (texture(picture, v_picture_uv).a < cutoff) discard;
    surface = base_color * to_linear(texture(picture, v_picture_uv).rgb);
    glow = emission * to_linear(texture(glow_picture, v_picture_uv).rgb);
    vec3 at = vec3(v_light_uv / side, v_page);
    total = texture(total_light, at).rgb;
    direct = texture(direct_light, at).rgb;
    noise = texture(noise_share, at).r;
    origin = texture(origin_part, at).r;
    other = texture(other_light, at);
    around = texture(ray_shares, at).rg;
    vec3 n = normalize(v_normal);
    float sky = 0.62 + 0.28 * n.y + 0.10 * n.x;
    vec3 shown = to_display(mix(vec3(dot(surface, vec3(0.2126, 0.7152, 0.0722))), surface, 0.6) * sky);
    bool hatched = false, backs = false, own = false, shining = false;
//CHOICE//
    // What has no place in this light says so, instead of being black.
    if (unlit && hatched) shown = to_display(surface) * (own ? 1.0 : 0.35);
    else if (v_page < -0.5 && hatched) {
        float hatch = step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 16.0));
        shown = to_display(surface * 0.35) * (0.82 + 0.18 * hatch) + 0.05 * hatch;
    }
    if (!backs && !gl_FrontFacing && !two_sided) shown = vec3(0.16) + 0.05 * step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 10.0));
    if ((v_flags & 2) != 0) shown = mix(shown, vec3(0.86, 0.64, 0.36), 0.10);
    // The less alpha, the more it shines: by stops, six at most.
    float over = shining && (gl_FrontFacing || two_sided) ? exposure * max(glow.r, max(glow.g, glow.b)) : 0.0;
    color = vec4(shown, 1.0 - min(log2(1.0 + over) / 6.0, 1.0));
}
