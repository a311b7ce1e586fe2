#version 330
uniform vec3 forward, right, up;  // right and up as long as half the picture is wide and high, at a metre's distance
uniform vec3 radiance;
uniform float exposure;
uniform float turn;
uniform sampler2D sky;
in vec2 at;
out vec4 color;
const float PI = 3.14159265;
vec3 to_display(vec3 c) { return mix(12.92 * c, 1.055 * pow(max(c, vec3(1e-9)), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c)); }
void main() {
    vec3 way = normalize(forward + at.x * right + at.y * up);
    // The middle column of the picture lies along -Z, columns to the right of it towards +X.
    vec2 place = vec2(fract((atan(-way.x, way.z) - turn) / (2.0 * PI)), acos(clamp(way.y, -1.0, 1.0)) / PI);
    vec3 seen = radiance * textureLod(sky, place, 0.0).rgb;
    color = vec4(to_display(1.0 - exp(-max(seen, vec3(0.0)) * exposure)), 1.0);
}
