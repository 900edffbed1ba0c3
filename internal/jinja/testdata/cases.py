#!/usr/bin/env python3
"""Computes cases.json: templates, variables, and what the reference implementation of the language
(python3-jinja2, set up as model libraries set it up) makes of them. Run in this folder."""
import json
from jinja2.sandbox import ImmutableSandboxedEnvironment

env = ImmutableSandboxedEnvironment(trim_blocks=True, lstrip_blocks=True, extensions=["jinja2.ext.loopcontrols"])


def tojson(x, ensure_ascii=False, indent=None, separators=None, sort_keys=False):
    return json.dumps(x, ensure_ascii=ensure_ascii, indent=indent, separators=separators, sort_keys=sort_keys)


def raise_exception(message):
    raise ValueError(message)


env.filters["tojson"] = tojson
env.globals["raise_exception"] = raise_exception

V = {"a": "Osmer", "n": 3, "f": 0.1, "l": [3, 1, 2], "d": {"b": 1, "a": "x"}, "e": [], "z": None, "t": True,
     "m": [{"role": "user", "content": "hi"}, {"role": "assistant", "content": " yes\n"}]}
T = r"""
plain
{{ a }}{{ n }}{{ f }}{{ z }}{{ t }}{{ l }}{{ d }}{{ nothing }}
{{ 1 + 2 * 3 - 4 // 3 }} {{ -7 // 2 }} {{ -7 % 3 }} {{ 7 / 2 }} {{ 2 ** 3 ** 2 }} {{ -2 ** 2 }}
{{ 1e3 }} {{ 1e16 }} {{ 0.00001 }} {{ 1.0 }} {{ 1_000 }} {{ 0x1f }}
{{ 'a' ~ 1 ~ none ~ true }}
{{ 'x' * 3 }}{{ [1] * 2 }}{{ [1] + [2] }}
{{ 1 < 2 < 3 }} {{ 1 < 3 < 2 }} {{ 'a' in 'abc' }} {{ 4 not in l }} {{ 'b' in d }}
{{ not 1 == 2 }} {{ not a and n or 'z' }} {{ 1 and 0 }} {{ '' or 'y' }}
{{ 'y' if n > 2 else 'n' }} {{ 'y' if n > 5 }}|
{{ a[0] }}{{ a[-1] }}{{ a[1:3] }}{{ a[::-1] }}{{ a[:-1] }}{{ a[5:1:-2] }}{{ l[::-1] }}{{ l[-2:] }}{{ l[1:][0] }}
{{ d.b }}{{ d['a'] }}{{ d.get('q') }}{{ d.get('q', 5) }}{{ m[1].role }}{{ m.0.content }}
{{ d.items()|list }} {{ d.keys()|list }} {{ d.values()|list }}
{{ nothing.x }}
{{ d.nothing }}|{{ a.nothing }}|{{ l[9] }}|
{{ d.nothing.x }}
{{ l|length }}{{ a|length }}{{ d|count }} {{ l|first }}{{ l|last }} {{ l|sort }} {{ l|sort(reverse=true) }} {{ l|sum }}
{{ l|join(', ') }} {{ m|map(attribute='role')|join('/') }} {{ ['a','b']|map('upper')|list }}
{{ m|selectattr('role', 'equalto', 'user')|list|length }} {{ m|rejectattr('role', 'eq', 'user')|map(attribute='content')|list }}
{{ l|select('odd')|list }} {{ l|reject('gt', 1)|list }} {{ [0, 1, '']|select|list }}
{{ a|upper }} {{ a|lower }} {{ 'hello big world'|title }} {{ 'hELLO wORLD'|capitalize }} {{ '  x '|trim }}| {{ 'xxaxx'|trim('x') }}
{{ a|replace('s', 'SS') }} {{ 'aaa'|replace('a', 'b', 2) }} {{ 'ab'.replace('', '-') }}
{{ nothing|default('d') }} {{ ''|default('d') }}| {{ ''|default('d', true) }} {{ z|default('d') }}
{{ l|tojson }} {{ d|tojson }} {{ '<é"\n😀>'|tojson }} {{ 1.0|tojson }} {{ z|tojson }} {{ t|tojson }}
{{ d|tojson(indent=2) }}
{{ [[], {}, [1, {'a': [2]}]]|tojson(indent=4) }}
{{ d|tojson(sort_keys=true, separators=(',', ':')) }} {{ 'é😀'|tojson(ensure_ascii=true) }}
{{ '3'|int + 1 }} {{ '3.7'|int }} {{ 'x'|int(9) }} {{ '2.5'|float }} {{ 3.7|int }} {{ 2.5|round }} {{ 3.14159|round(2) }} {{ 7|string ~ 'x' }}
{{ [1, 2, 2, 1]|unique|list }} {{ l|max }} {{ l|min }} {{ -5|abs }} {{ 'abc'|reverse }} {{ l|reverse|list }} {{ 'ab'|list }}
{{ d|dictsort }} {{ d|items|list }}
{{ 'a\nb\n\nc'|indent }}|{{ 'a\nb'|indent(2, true) }}
{{ a is defined }} {{ nothing is defined }} {{ nothing is undefined }} {{ z is none }} {{ a is string }} {{ n is number }} {{ d is mapping }} {{ l is sequence }} {{ l is iterable }} {{ t is true }} {{ t is boolean }} {{ n is odd }} {{ n is even }} {{ n is divisibleby 3 }} {{ n is not none }} {{ n is integer }} {{ f is float }} {{ n is in l }} {{ a is sameas a }}
{{ a.upper() }}{{ a.lower() }}{{ ' x '.strip() }}{{ 'xyx'.strip('x') }}{{ ' x '.lstrip() }}{{ ' x '.rstrip() }}|{{ a.startswith('Os') }}{{ a.endswith(('x', 'mer')) }}
{{ 'a,b,c'.split(',') }} {{ ' a  b '.split() }} {{ 'a,b,c'.split(',', 1) }} {{ 'a b c'.split(none, 1) }} {{ 'l1\nl2\n'.splitlines() }} {{ '-'.join(['a', 'b']) }} {{ a.find('m') }} {{ 'aXa'.count('a') }} {{ '12'.isdigit() }}
{{ 'it\'s' }} {{ "say \"hi\"" }} {{ 'tab\tx' }} {{ 'a' 'b' }} {{ 'é' }} {{ '\\' }}
{{ ["it's", 'say "x"', 'a\nb', 'é', none, 1.5, (1,), (1, 2), {}] }}
{{ '%s-%d-%.2f%%' % ('x', 3, 1.234) }} {{ '%s' % a }}
{% if n == 3 %}three{% elif n == 4 %}four{% else %}other{% endif %}
{% for x in l %}{{ loop.index }}{{ loop.index0 }}{{ loop.first }}{{ loop.last }}{{ loop.length }}{{ loop.revindex }}:{{ x }} {% endfor %}
{% for x in e %}x{% else %}empty{% endfor %}
{% for k, v in d.items() %}{{ k }}={{ v }};{% endfor %}
{% for x in l if x > 1 %}{{ loop.index }}{{ x }}{% endfor %}
{% for x in l %}{% if x == 1 %}{% continue %}{% endif %}{{ x }}{% endfor %}{% for x in l %}{% if x == 1 %}{% break %}{% endif %}{{ x }}{% endfor %}
{% for x in l %}{{ loop.previtem }}-{{ loop.nextitem }} {{ loop.cycle('o', 'e') }} {{ loop.changed(x > 1) }};{% endfor %}
{% for x in [[1, [2]], [3, []]] recursive %}{{ x[0] if x is sequence else x }}{% if x is sequence and x[1] %}({{ loop(x[1]) }}){% endif %}{% endfor %}
{% for i in range(3) %}{{ i }}{% endfor %}{% for i in range(5, 0, -2) %}{{ i }}{% endfor %}{{ range(2)|list }}
{% set x = 1 %}{% for i in l %}{% set x = i %}{% endfor %}{{ x }}
{% set ns = namespace(x=1) %}{% for i in l %}{% set ns.x = ns.x + i %}{% endfor %}{{ ns.x }}
{% set a, b = 1, 2 %}{{ a }}{{ b }}{% set x = (1, 2) %}{{ x }}{% set x = 1, %}{{ x }}
{% if true %}{% set y = 5 %}{% endif %}{{ y }}
{% set x %}[{{ a }}]{% endset %}{{ x }}{% set x | upper | trim %} q {% endset %}{{ x }}|
{% macro m1(x, y=2, z=x) %}{{ x }}{{ y }}{{ z }}{{ varargs }}{{ kwargs }}{% endmacro %}{{ m1(1) }}{{ m1(1, 3, 4, 5) }}{{ m1(1, z=9, q=8) }}
{% macro m2() %}<{{ caller() }}>{% endmacro %}{% call m2() %}in{{ n }}{% endcall %}
{% macro m3() %}{{ caller('p') }}{% endmacro %}{% call(v) m3() %}[{{ v }}]{% endcall %}
{% filter upper %}abc{{ a }}{% endfilter %}
{% with x = 5, y = 6 %}{{ x }}{{ y }}{% endwith %}{{ x }}
{% raw %}{{ raw }}{% if %}{% endraw %}x
a {%- if t -%} b {%- endif -%} c
a {{- ' b ' -}} c
{# comment #}x{#- c -#} y
{{ dict(a=1, b=2) }} {{ {'a': 1}['a'] }} {{ {1: 2}[1] }} {{ {'x': {'y': [1, 2]}}.x.y[1] }}
{{ (1, 2)|first }} {{ () }} {{ (1) }}
{{ 'a' < 'b' }} {{ [1, 2] < [1, 3] }} {{ 1 == 1.0 }} {{ true == 1 }} {{ 'a' == a }}
{{ 1 < 'a' }}
{{ 'a' + 1 }}
{{ l.append(4) }}
{{ raise_exception('no') }}
{{ a.foo() }}
{{ n|tojson|length }} {{ n is not string and n is number }} {{ not n is string }}
{{ -n|abs }} {{ 2 * n|string|length }} {{ a|length > 3 }} {{ a ~ n|string }}
{{ m[0]['role'] ~ m[-1]['content']|trim }} {{ m[1:]|length }}
{{ messages is defined and messages[0].role == 'x' }}
{{ 5 if none else 6 if none else 7 }}
{{ [x for x in l] }}
{{ none.x }}|
{{ e[0] }}|{{ (e|first) is defined }}
{{ 10 // 3.0 }} {{ 10 % 3.5 }} {{ 2 ** -1 }} {{ 2 ** 0.5 }} {{ 1 / 3 }} {{ 1e100 }} {{ 123456789.123 }}
{{ 'ß'|upper }} {{ 'ÉA'.lower() }} {{ '日本語'[1] }} {{ '日本語'|length }} {{ '日本語'[::-1] }}
{{ d == {'a': 'x', 'b': 1} }} {{ [1, [2]] == [1, [2]] }} {{ (1,) == [1] }}
{{ 'x' in ['x', 'y'] and 'z' not in ['x'] }} {{ none in [none] }}
{{ a | upper | lower | replace("o", "0") }}
{% for m in m %}{{ m.role }}{{ '' if loop.last else ', ' }}{% endfor %}
{% for a, (b, c) in [(1, (2, 3))] %}{{ a }}{{ b }}{{ c }}{% endfor %}
""".strip("\n").split("\n")
BLOCKS = [
    "a\n{% if t %}\nb\n{% endif %}\nc\n", "a\n  {% if t %}\n  b\n  {% endif %}\nc", "  {%+ if t %}x{% endif %}\n",
    "{% if t +%}\nx{% endif %}", "a\n  {# c #}\nb", "x  {% if t %}y{% endif %}", "\n\n{% set x = 1 %}\n\n{{ x }}\n\n",
    "{{ a }}\n{{ a }}\n", "a\r\nb\r{{ a }}", "{%- for x in l %}\n  {{ x }}\n{%- endfor %}\n",
    "{% for x in l -%}\n  {{ x }}\n  {%- if not loop.last %}, {% endif %}\n{%- endfor %}.",
    "  {% for x in l %}\n    {% if x > 1 %}\n      {{ x }}\n    {% endif %}\n  {% endfor %}\n",
    "{% raw -%}\n x {%- endraw %}y", "a\n  {% raw %}\n b\n  {% endraw %}\nc", "{{\n  a\n  | upper\n}}",
    "{% if a %}{{ '{{' }}{{ '%}' }}{% endif %}", "{{ {'a': {'b': 1}} }}", "{{ {'a': {'b': 1}}['a']['b']}}", "\t{% if t %}\n\tx\n\t{% endif %}",
    "{% macro f(x) -%}\n  [{{ x }}]\n{%- endmacro %}\n{{ f(1) }}\n{{ f('b') }}", "a {# multi\nline #}\nb", "{%if t%}x{%endif%}",
]
BROKEN = ["{{ a", "{% if a %}", "{{ a | }}", "{% for x %}{% endfor %}", "{{ 1 2 }}", "{% endif %}", "{{ a.b. }}", "{% set 1 = 2 %}",
          "{{ (1, 2 }}", "{{ '\\' }}", "{% unknown %}", "{{ a | nofilter }}", "{{ a is notest }}", "{% macro f( %}{% endmacro %}", "{{ f(a=1, 2) }}",
          "{# open", "{{ } }}", "{% if a %}{% else %}{% elif b %}{% endif %}", "{% set true = 1 %}", "{{ range(999999999) }}"]

cases = []
for template in T + BLOCKS + BROKEN:
    case = {"template": template, "vars": V}
    try:
        case["out"] = env.from_string(template).render(**V)
    except Exception as e:
        case["error"] = True
        case["reference_said"] = f"{type(e).__name__}: {e}"
    cases.append(case)

with open("cases.json", "w") as f:
    json.dump({"vars": V, "cases": [{k: v for k, v in c.items() if k != "vars"} for c in cases]}, f, ensure_ascii=False, indent=0)
print(len(cases), "cases,", sum("error" in c for c in cases), "errors")
