#version 330
uniform mat4 matrix;
in vec3 position;
in vec3 normal;
in vec2 picture_uv;
in vec3 light_uv;
in float node;
in float density;
in float chart;
// One byte a node: 1 hidden, 2 chosen.
uniform sampler2D flags;
out vec3 v_normal;
out vec3 v_place;
out vec2 v_picture_uv;
out vec2 v_light_uv;
flat out float v_page;
flat out float v_node;
flat out float v_density;
flat out float v_chart;
flat out int v_flags;
void main() {
    gl_Position = matrix * vec4(position, 1.0);
    v_normal = normal;
    v_place = position;
    v_picture_uv = picture_uv;
    v_light_uv = light_uv.xy;
    v_page = light_uv.z;
    v_node = node;
    v_density = density;
    v_chart = chart;
    int n = int(node + 0.5);
    v_flags = int(texelFetch(flags, ivec2(n % 1024, n / 1024), 0).r * 255.0 + 0.5);
    // All corners of a hidden triangle in one point outside the picture: nothing is drawn.
    if ((v_flags & 1) != 0) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);
}
