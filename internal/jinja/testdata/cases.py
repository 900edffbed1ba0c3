#!/usr/bin/env python3
"""Computes cases.json: templates, variables, and what the reference implementation of the language
(python3-jinja2, set up as model libraries set it up) makes of them. Run in this folder."""
import copy
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

# More of the same, by what they are about.
T += r"""
{{ 'abc'|center(9) }}|{{ 'abc'|center }}|{{ 'a b c'|wordcount }} {{ [1,2,3,4,5]|batch(2)|list }} {{ [1,2,3]|batch(2, 0)|list }} {{ [1,2,3,4,5]|slice(2)|list }}
{{ '%s and %s'|format('a', 'b') }} {{ 'a\nb'|replace('\n', ' ') }} {{ '<b>'|e }}
{{ m|groupby('role')|length }} {% for g in m|groupby('role') %}{{ g.grouper }}:{{ g.list|length }};{% endfor %}
{{ {'a': {'b': 2}}|attr('a') }}| {{ m|map('attr', 'x')|list }}
{{ [3, 1]|sort|first }} {{ ['b', 'A', 'c']|sort }} {{ ['b', 'A', 'c']|sort(case_sensitive=true) }} {{ m|sort(attribute='content')|map(attribute='role')|join }}
{{ m|map(attribute='nope', default='-')|list }} {{ [[1, 2], [3]]|sum(start=[]) }} {{ [{'v': 1}, {'v': 2}]|sum(attribute='v') }} {{ ['a', 'b', 'A']|unique|list }} {{ ['a', 'A']|unique(true)|list }}
{{ d|dictsort(false, 'value') if false else d|dictsort(reverse=true) }} {{ {'B': 1, 'a': 2}|dictsort }} {{ {'B': 1, 'a': 2}|dictsort(true) }}
{{ 2.675|round(2) }} {{ 2.5|round|int }} {{ 3.2|round(method='ceil') }} {{ 3.8|round(0, 'floor') }} {{ 1234|round(-2) }} {{ -2.5|round }}
{{ '0x1A'|int(0, 16) }} {{ '101'|int(base=2) }} {{ '1e2'|int }} {{ none|int }} {{ '  7 '|int }} {{ true|int }} {{ '1_000'|int }} {{ 'inf'|float }} {{ '1e400'|float }}
{{ 'ab'|list|join('-') }} {{ d|list }} {{ d|join(',') }} {{ 'abc'|first }} {{ 'abc'|last }} {{ {}|first }}| {{ ''|last }}|
{{ 'a,b'|replace(',', ';')|upper|lower|title }} {{ "it's o'clock"|title }} {{ 'foo-bar baz_qux'|title }} {{ 'ÀÉ'|lower }} {{ 'straße'|upper }} {{ 'élan'|capitalize }}
{{ 1|string + 'a' }} {{ none|string }} {{ true|string|lower }} {{ [1]|string }} {{ 1.50|string }} {{ 'x'|string is string }}
{{ 'abc' is in 'xabcx' }} {{ 1 is in [1] }} {{ 'a' is eq 'a' }} {{ 1 is ne 2 }} {{ 3 is gt 2 }} {{ 3 is ge 3 }} {{ 1 is lt 2 }} {{ 1 is le 0 }} {{ 4 is divisibleby(2) }} {{ 'A' is upper }} {{ 'a' is lower }} {{ '' is lower }} {{ none is sameas none }} {{ 1 is sameas 1 }}
{{ 1 is number }} {{ true is number }} {{ 1.5 is integer }} {{ true is integer }} {{ true is boolean }} {{ 'a' is iterable }} {{ 5 is iterable }} {{ {} is sequence }} {{ d is iterable }} {{ none is string }} {{ nothing is none }} {{ loop is defined }} {{ range is callable }} {{ a is callable }} {{ false is false }} {{ 0 is false }} {{ a is filter }} {{ 'upper' is filter }} {{ 'odd' is test }}
{{ a is defined and a is not none }} {{ not (a is defined) }} {{ a is not defined or n is odd }} {{ n is odd and n is not even }} {{ 'x' if a is string else 'y' }} {{ a is string is defined }}
{{ 'abcdef'.index('c') }} {{ 'abc'.rfind('c') }} {{ 'aXbX'.rsplit('X', 1) }} {{ 'abc'.partition('b') }} {{ 'abcb'.rpartition('b') }} {{ 'a'.ljust(3) }}| {{ 'a'.rjust(3, '.') }} {{ 'a'.center(3) }}| {{ '7'.zfill(3) }} {{ 'AbC'.swapcase() }} {{ 'ab'.isalpha() }} {{ 'a1'.isalnum() }} {{ ' '.isspace() }} {{ 'AB'.isupper() }} {{ 'ab'.islower() }} {{ 'Ab C'.istitle() }} {{ '12'.isnumeric() }} {{ '12'.isdecimal() }} {{ 'abc'.removeprefix('a') }} {{ 'abc'.removesuffix('c') }} {{ 'a\tb'.expandtabs(4) }} {{ 'Ab'.casefold() }}
{{ 'xyz'.startswith('y', 1) }} {{ 'xyz'.find('z', 1) }} {{ 'aaa'.count('a', 1) }} {{ 'a-b_c'.split('-')[1].split('_') }} {{ 'a  b'.split(' ') }} {{ ''.split() }} {{ ''.split(',') }} {{ 'abc'.strip('ac') }} {{ 'a\n\nb\r\nc'.splitlines() }} {{ 'a\nb'.splitlines(true) }}
{{ '{} {}'.format('a', 1) }} {{ '{0}{1}{0}'.format('a', 'b') }} {{ '{x}'.format(x=5) }} {{ '{:>5}|{:<5}|{:^5}'.format('a', 'b', 'c') }} {{ '{:.2f} {:d} {:05d} {:,}'.format(1.005, 7, 42, 1234567) }} {{ '{{}}'.format() }} {{ '{!r}'.format('a') }}
{{ '  1  2   3  '.split(none, 1) }} {{ ' a '.split(none, 0) }} {{ 'a b  '.split(none, 5) }} {{ '  b   b '.rsplit(none, 1) }} {{ '  a '.rsplit(none, 0) }} {{ ' a b c '.rsplit(none, 1) }} {{ ' a b c '.rsplit(none, 2) }} {{ ' a b c '.rsplit(none, 3) }} {{ '1,2,3'.rsplit(',', 1) }} {{ '1,2'.rsplit(',', 1) }} {{ '1,,2'.rsplit(',', 1) }} {{ ''.rsplit(none, 1) }}
{{ d.copy() == d }} {{ d.get('zz', 'dflt') }} {{ d.pop is defined }} {{ {'a': 1, 'b': 2}.items()|list|last }} {{ d.keys()|sort }} {{ 'items' in d }} {{ {'items': 5}['items'] }}
{{ l.index(1) }} {{ l.count(3) }} {{ (1, 2, 1).count(1) }} {{ (1, 2).index(2) }} {{ l.copy() }}
{{ l.append(1) }}
{{ d.update({'x': 1}) }}
{{ a.__class__ }}|
{{ ''.__class__.__mro__ }}
{{ a._x }}|{{ d._x }}|
{{ namespace(a=1, b='x').b }} {% set q = namespace() %}{% set q.v = [1] %}{{ q.v }} {{ q.w }}| {{ namespace({'k': 1}).k }}
{{ dict([('a', 1)]) }} {{ dict({'a': 1}, b=2) }} {{ dict() }}
{{ cycler(1, 2).next() }} {% set c = cycler('a', 'b') %}{{ c.next() }}{{ c.next() }}{{ c.next() }}{{ c.current }} {% set j = joiner('|') %}{{ j() }}a{{ j() }}b
{% for i in range(3) %}{% for j in range(2) %}{{ loop.index }}{{ i }}{{ j }} {% endfor %}{{ loop.index }};{% endfor %}
{% for i in l %}{% set outer = loop %}{% for j in 'ab' %}{{ outer.index }}{{ loop.index }}{{ j }} {% endfor %}{% endfor %}
{% for i in range(10) if i is odd %}{{ loop.index }}:{{ i }}{% if not loop.last %},{% endif %}{% endfor %}
{% for i in [] %}a{% else %}b{% endfor %}{% for i in l if i > 9 %}a{% else %}c{% endfor %}
{% for x in l|sort|reverse %}{{ x }}{% endfor %} {% for x in d %}{{ x }}{% endfor %} {% for x in 'aé' %}[{{ x }}]{% endfor %} {% for k, v in d|dictsort %}{{ k }}{{ v }}{% endfor %} {% for x in nothing %}z{% else %}none{% endfor %}
{% for x in 5 %}{% endfor %}
{% for a, b in [[1, 2, 3]] %}{% endfor %}
{% for x in l %}{{ loop.revindex0 }}{{ loop.depth }}{{ loop.depth0 }}{% endfor %}
{% for x in l recursive %}{{ loop.depth }}{% endfor %}
{% for i in l %}{{ i }}{% break %}{% endfor %}{% for i in l %}{% continue %}{{ i }}{% else %}E{% endfor %}
{% set x = 5 %}{% if x %}{% set x = 6 %}{% endif %}{{ x }}{% for i in [1] %}{% set x = 7 %}{{ x }}{% endfor %}{{ x }}
{% set x %}{% for i in l %}{{ i }}{% endfor %}{% endset %}{{ x }}{{ x|length }} {% set y | replace('a', 'b') %}aaa{% endset %}{{ y }}
{% set x = l %}{{ x is sameas l }} {% set (p, q) = (1, 2) %}{{ p }}{{ q }} {% set x, y = 'ab' %}{{ x }}{{ y }}
{% set x, y = [1] %}
{% if false %}a{% elif none %}b{% elif '' %}c{% elif [] %}d{% elif {} %}e{% elif 0 %}f{% elif 0.0 %}g{% else %}h{% endif %}
{% if 'a' %}1{% endif %}{% if [0] %}2{% endif %}{% if a and not z %}3{% endif %}{% if nothing %}4{% endif %}{% if nothing is defined and nothing.x %}5{% endif %}
{% macro a1(x) %}{{ x }}{{ caller is defined }}{% endmacro %}{{ a1('v') }} {{ a1() }}| {{ a1.name }}
{% macro a2(x, y='d') %}{{ x }}{{ y }}{% endmacro %}{{ a2('p') }}{{ a2('p', 'q') }}{{ a2(y='r', x='s') }}{{ a2(*['t', 'u']) }}{{ a2(**{'x': 'v'}) }}
{% macro outer() %}{% macro inner() %}i{% endmacro %}{{ inner() }}{{ inner() }}{% endmacro %}{{ outer() }}
{% macro rec(k) %}{{ k }}{% if k > 0 %}{{ rec(k - 1) }}{% endif %}{% endmacro %}{{ rec(3) }}
{% macro kw(a, b) %}{{ a }}{{ b }}{% endmacro %}{{ kw(1, 2, 3) }}
{% macro kw2(a) %}{{ a }}{% endmacro %}{{ kw2(1, c=3) }}
{% macro kw3(a) %}{{ a }}{% endmacro %}{{ kw3(1, a=3) }}
{% macro list_items(items) %}{% for i in items %}<{{ caller(i) }}>{% endfor %}{% endmacro %}{% call(x) list_items(l) %}{{ x * 2 }}{% endcall %}
{% filter upper|replace('A', 'x') %}aba{% endfilter %} {% filter indent(2) %}a
{% with %}{% set q = 1 %}{{ q }}{% endwith %}{{ q }}| {% with x = 1 %}{% with x = 2, y = x %}{{ x }}{{ y }}{% endwith %}{{ x }}{% endwith %}
{{ (1 if true else 2) + 3 }} {{ 1 if false }}| {{ (1 if false) is defined }} {{ 'a' if 0 else 'b' if 0 else 'c' }} {{ 1 or 2 if 0 else 3 }}
{{ not true or true }} {{ not (true or true) }} {{ true and not false }} {{ 1 == 1 and 2 == 2 }} {{ 1 < 2 == true }} {{ (1 < 2) == true }} {{ 1 in [1] == true }} {{ not 1 in [1] }} {{ 1 not in [2] and 3 in [3] }}
{{ 2 + 3 * 4 ** 2 }} {{ (2 + 3) * 4 }} {{ 10 - 3 - 2 }} {{ 2 ** 3 ** 0 }} {{ 7 // 2 * 2 }} {{ 7 % 4 + 1 }} {{ -3 ** 2 }} {{ 1 - -1 }} {{ +1 }} {{ - 1 + 2 }} {{ 1 ~ 2 + 3 }} {{ 1 + 2 ~ 3 }} {{ 'a' ~ 'b' * 2 }} {{ 6 / 3 }} {{ 7 / 2 * 2 }}
{{ 1 + 1.0 }} {{ 3 * 1.5 }} {{ 2 ** 62 }} {{ 5 // 2.0 }} {{ 5.5 % 2 }} {{ -5 // 3 }} {{ -5 % 3 }} {{ 5 % -3 }} {{ 0.1 + 0.2 }} {{ 1e21 }} {{ 1.0e-7 }} {{ 100000000000000000000.0 }} {{ 123456789012345680.0 }} {{ 3.0 == 3 }} {{ 1e2|int }}
{{ [1, [2, (3,)], {'a': None}] }} {{ {1: 'a', 'b': 2.0, none: true} }} {{ (1, 'a') }} {{ [[]] }} {{ {} }} {{ ['\\', '"', "'", '\t\n', 'é', '\x01'] }} {{ [true, none, 1.0] }}
{{ [1, 2, 3][1] }} {{ [1, 2, 3][-1] }} {{ [1, 2, 3][5] }}| {{ [1, 2, 3]['a'] }}| {{ 'abc'[1] }} {{ 'abc'[9] }}| {{ {'a': 1}.a }} {{ {'a b': 1}['a b'] }} {{ (1, 2)[0] }} {{ d['nope'] }}| {{ m[0]['content'] }} {{ m[0].content[0] }}
{{ l[0:2] }} {{ l[:2] }} {{ l[1:] }} {{ l[:] }} {{ l[::2] }} {{ l[::-2] }} {{ l[-2:] }} {{ l[:-1] }} {{ l[5:] }} {{ 'abcdef'[1:5:2] }} {{ 'abcdef'[-2::-2] }} {{ 'abc'[::-1] }} {{ (1, 2, 3)[1:] }} {{ l[none:2] }} {{ 'héllo'[1:3] }}
{{ l[::0] }}
{{ l['a':] }}
{{ d[:1] }}
{{ 'a' 'b' "c" }} {{ "\u00e9\x41\101" }} {{ '\q' }} {{ 'a\
{{ "a" ~ 'b' ~ 1.5 ~ [1] ~ none }} {{ nothing ~ 'x' }} {{ '' ~ '' }}|
{{ nothing + 1 }}
{{ nothing|length }} {{ nothing|list }} {{ nothing|join }}| {{ nothing|upper }}| {{ nothing == nothing2 }} {{ nothing == none }} {{ nothing|default(1) + 1 }} {{ d.x|default('q') }} {{ (d.x.y)|default('q') if false else 'r' }}
{{ nothing() }}
{{ nothing[0] }}
{{ a() }}
{{ none.x }}
{{ none['x'] }}
{{ 5.x }}
{{ n.x }}| {{ n['x'] }}|
{{ none + 1 }}
{{ [] + 'a' }}
{{ {} + {} }}
{{ 'a' - 'b' }}
{{ 'a' * 'b' }}
{{ [1] < 'a' }}
{{ none < 1 }}
{{ {} < {} }}
{{ 1 in 5 }}
{{ 1 in 'abc' }}
{{ 'a' in none }}
{{ -'a' }}
{{ 1 // 0 }}
{{ 1 % 0 }}
{{ 1.5 / 0 }}
{{ ['a', 1]|sort }}
{{ [1, 'a']|max }}
{{ 5|length }}
{{ none|length }}
{{ 5|first }}
{{ 5|join }}
{{ 5|list }}
{{ 'x'|dictsort }}
{{ l|map('nope')|list }}
{{ l|select('nope')|list }}
{{ l|map|list }}
{{ a|tojson }}{{ 'a"b\\c\n\t\r\x08\x0c\x01\x7f/é '|tojson }} {{ [1, 2.5, none, true, 'x', {}, []]|tojson }} {{ {'b': {'d': 1, 'c': [1, {'x': 2}]}, 'a': 2}|tojson }} {{ {1: 2, none: 3, true: 4, 1.5: 6}|tojson }} {{ 1e16|tojson }} {{ 1e-7|tojson }} {{ (1, 2)|tojson }}
{{ d|tojson(indent=4) }} {{ []|tojson(indent=2) }} {{ [1, [2]]|tojson(indent=1) }} {{ d|tojson(separators=(',', ':')) }} {{ d|tojson(indent=2, separators=(', ', ' : ')) }} {{ {'b': 1, 'a': {'d': 1, 'c': 2}}|tojson(sort_keys=true, indent=2) }} {{ 'é中😀'|tojson(ensure_ascii=true) }} {{ d|tojson(ensure_ascii=false) }} {{ d|tojson(indent='--') }} {{ d|tojson(indent=0) }}
{{ nothing|tojson }}
{{ range|tojson }}
{{ (m|first).role }} {{ (m|last).content|trim }} {{ m|map(attribute='content')|map('trim')|map('upper')|join(' / ') }} {{ m|selectattr('role', 'in', ['user'])|map(attribute='role')|list }} {{ m|selectattr('role')|list|length }} {{ m|rejectattr('nope')|list|length }} {{ m|selectattr('content', 'ne', 'hi')|list|length }} {{ m|map(attribute='role')|unique|join(',') }}
{{ raise_exception('bad ' ~ n) }}
{% if m[0].role != 'system' %}{{ raise_exception('no system') }}{% endif %}
{{ '\n' }}x{{ '\n\n' }} {{ 'a\tb' }} {{ 'x' ~ '\n' ~ 'y' }}
{{ "{{ a }}" }} {{ '{% if %}' }} {{ '#}' }} {{ '{#' }}
{{a}}{{  a  }}{{a|upper|lower}}{{ a | upper }}{{(a)}}{{ ( a ) }}
{{ true }}{{ True }}{{ false }}{{ False }}{{ none }}{{ None }}
{{ [1,2,3,] }} {{ {'a':1,} }} {{ (1,) }} {{ a2 is defined }} {{ range(1,) |list }}
{{ ([1, 2] + [3])|length }} {{ ('a' ~ 'b')|upper }} {{ (1 + 2)|string ~ 'x' }} {{ -1|abs }} {{ (-1)|abs }} {{ 2 ** -1|abs }} {{ 'a'|upper ~ 'b' }} {{ 1 + '2'|int }}
""".strip("\n").split("\n")

# White space control, in all combinations of its signs.
for left in ["", "-", "+"]:
    for right in ["", "-", "+"]:
        BLOCKS.append("a \n  {%" + left + " if t " + right + "%}  \n  b {%" + left + " endif " + right + "%}\n\n c")
        BLOCKS.append(" x\n\t{#" + left + " note " + right + "#} \n y")
        if right != "+":
            BLOCKS.append(" x \n {{" + left + " a " + right + "}} \n y")
        BLOCKS.append("{%" + left + " set q = 1 " + right + "%}\n {{ q }}\n{%" + left + " if q " + right + "%}\n  {%" + left + " raw " + right.replace("+", "") + "%} {{ z }} {%" + left + " endraw " + right + "%} \n{% endif %}\n")

# Expressions by chance, over values of every kind, with no care for whether they make sense.
import random
chance = random.Random(20260301)
ATOMS = ["1", "0", "-2", "2.5", "'ab'", "''", "true", "none", "l", "d", "a", "n", "e", "nothing", "[1, 'x']", "(1, 2)", "{'k': 1}", "m[0].role", "l[1:]", "a|length"]


def expression(depth):
    if depth == 0 or chance.random() < 0.2:
        return chance.choice(ATOMS)
    form = chance.randrange(9)
    x, y = expression(depth - 1), expression(depth - 1)
    if form < 4:
        return f"{x} {chance.choice(['+', '-', '*', '//', '%', '~', '==', '!=', '<', '>=', 'in', 'not in', 'and', 'or'])} {y}"
    if form == 4:
        return f"({x})"
    if form == 5:
        return f"not {x}"
    if form == 6:
        return f"({x} if {y} else {expression(depth - 1)})"
    if form == 7:
        return f"({x})|{chance.choice(['string', 'length', 'list', 'upper', 'first', 'last', 'default(7)', 'tojson', 'int', 'trim', 'join'])}"
    return f"({x}) is {chance.choice(['defined', 'none', 'string', 'number', 'mapping', 'sequence', 'iterable', 'true', 'odd'])}"


T += ["{{ " + expression(3) + " }}" for _ in range(160)]

# Each method, filter and test at its edges.
STRINGS = ["''", "'Osmer'", "'two words'", "'they\\'re o\\'er'", "'  in space  '", "'ΑΣ ΟΔΟΣ'", "'İstanbul ǆ ß ﬁ'", "'a-b_c d.e'", "'x1y2 3z'", "'tab\\tline\\nend'", "'123'", "'²½Ⅷ'", "'日本 語'"]
for method in ["capitalize()", "title()", "upper()", "lower()", "swapcase()", "casefold()", "isalnum()", "isalpha()", "isdecimal()", "isdigit()", "isnumeric()", "islower()", "isupper()",
               "istitle()", "isspace()", "isascii()", "isidentifier()", "isprintable()", "strip()", "lstrip()", "rstrip()", "split()", "rsplit()", "splitlines()", "splitlines(true)", "expandtabs()", "expandtabs(4)"]:
    T.append(" ".join("{{ %s.%s }}|" % (s, method) for s in STRINGS))
for call in ["center(9)", "center(10, '*')", "ljust(8)|tojson", "rjust(8, '.')", "zfill(8)", "count('s')", "count('')", "count('o', 1)", "count('o', 1, 3)", "find('o')", "find('o', 2)", "find('o', 1, 2)", "find('zz')", "rfind('o')",
             "index('s')", "rindex('zz')", "startswith('O')", "startswith(('x', 'O'))", "startswith('s', 1)", "startswith('s', 1, 2)", "endswith('r')", "endswith('e', 0, 4)", "replace('m', 'MM')", "replace('', '-')", "replace('s', '', 1)",
             "partition('m')", "partition('z')", "rpartition('m')", "rpartition('z')", "split('m')", "split('m', 0)", "split(maxsplit=1)", "rsplit('m', 1)", "removeprefix('Os')", "removesuffix('er')", "join(['a', 'b'])", "join('xy')", "strip('Or')", "lstrip('Os')", "rstrip('re')", "format()", "nosuch()", "center()", "split('')", "zfill('x')", "join([1])", "count()", "startswith(1)"]:
    T.append("{{ a.%s }} {{ 'one two  one'.%s }}" % (call, call))
    T.append("{{ ''.%s }}" % call)
for f in ["'{}'.format(1)", "'{0}{1}{0}'.format('a', 2)", "'{x} {y}'.format(x=1, y='b')", "'{:>6}|{:<6}|{:^6}'.format('ab', 'cd', 'ef')", "'{:*^9}'.format('mid')", "'{:05d} {:+d} {: d}'.format(42, 42, 42)", "'{:.2f} {:8.3f} {:e}'.format(3.14159, 2.5, 12345.678)",
          "'{:,} {:,.2f}'.format(1234567, 9876.543)", "'{:x} {:X} {:o} {:b} {:#x}'.format(255, 255, 8, 5, 255)", "'{:%}'.format(0.25)", "'{{}} {}'.format(1)", "'{!r} {!s}'.format('a', 'b')", "'{}'.format()", "'{0'.format(1)", "'{:d}'.format('x')", "'{:.2}'.format('abc')", "'{a[0]} {d.x}'.format(a=[1], d={'x': 2})", "'{:<5}|'.format(3)", "'{:>05}|'.format(3)", "'{:g} {:g}'.format(0.0001, 1e10)"]:
    T.append("{{ %s }}" % f)
for f in ["'%s' % 'a'", "'%s %s' % ('a', 1)", "'%d' % 3.9", "'%5d|%-5d|%05d' % (42, 42, 42)", "'%+d % d' % (5, 5)", "'%x %X %o %#x' % (255, 255, 8, 255)", "'%f %.2f %8.3f|' % (1.5, 2.345, 3.14159)", "'%e %g %G' % (12345.678, 0.00001, 1e20)", "'%r %s' % ('a', none)", "'%%' % ()", "'%(x)s-%(y)03d' % {'x': 'a', 'y': 7}", "'%s' % [1, 2]",
          "'%s' % (1, 2)", "'%d' % 'x'", "'%' % 1", "'%c%c' % (65, 'b')", "'%.3s|%10s|%-10s|' % ('abcdef', 'ab', 'cd')", "'%*d' % (5, 42)", "'x' % 5", "'%i %u' % (3, 4)", "'%5.1f%%' % 99.55", "'%s %s' % 'a'", "'%(q)s' % {'x': 1}", "'%q' % 1", "('%s' % 1) ~ '%'", "'%d' % true", "'%s' % true", "'%10.4d|' % 42"]:
    T.append("{{ %s }}" % f)
    T.append("{{ 'a%sb%sc'|format(1, 'z') }}" if f == "'%s' % 'a'" else "{{ (%s)|length }}" % f)
FILTERED = {
    "['b', 'A', 'c', 'B']": ["sort", "sort(case_sensitive=true)", "sort(reverse=true)", "unique|list", "unique(case_sensitive=true)|list", "min", "max", "min(case_sensitive=true)", "join", "join('-')", "first", "last", "length", "reverse|list", "batch(2)|list", "batch(3, 'x')|list", "slice(3)|list", "slice(3, 'x')|list", "map('lower')|list", "map('nosuch')|list", "select('equalto', 'A')|list", "reject('in', ['A', 'c'])|list", "sum", "tojson", "string", "list", "groupby(0)", "dictsort", "count", "abs", "round", "wordcount", "upper", "trim", "title", "capitalize", "default('x')"],
    "[3, 1, 2, 1]": ["sort", "unique|list", "sum", "sum(start=10)", "min", "max", "select('odd')|list", "reject('even')|list", "select('>', 1)|list", "select('>=', 2)|list", "select('==', 1)|list", "select('!=', 1)|list", "select('<', 2)|list", "select('<=', 2)|list", "select('divisibleby', 3)|list", "map('string')|join", "map('float')|list", "batch(2)|map('sum')|list", "slice(2)|list", "join(', ')", "first", "last", "sort(reverse=true)|first", "map('round', 1)|list", "select('nosuch')|list", "reverse|list|tojson", "map('abs')|sum"],
    "[{'n': 'b', 'v': {'w': 2}}, {'n': 'a', 'v': {'w': 1}}, {'n': 'B', 'v': {'w': 2}}]": ["sort(attribute='n')|map(attribute='n')|join", "sort(attribute='v.w')|map(attribute='n')|join", "sort(attribute='v.w,n')|map(attribute='n')|join", "sort(attribute='n', reverse=true)|map(attribute='n')|join", "groupby('v.w')|list|length", "groupby('v.w')|map('first')|list", "groupby('n')|map(attribute='grouper')|list", "groupby('n', case_sensitive=true)|map(attribute='grouper')|list", "groupby('x', default='?')|map('first')|list", "map(attribute='v.w')|sum", "map(attribute='x')|list", "map(attribute='x', default=0)|list", "sum(attribute='v.w')", "selectattr('v.w', '>=', 2)|map(attribute='n')|list", "selectattr('n', 'in', 'abc')|list|length", "rejectattr('n', 'lower')|map(attribute='n')|list", "selectattr('x')|list", "rejectattr('x', 'defined')|list|length", "min(attribute='v.w')|string", "max(attribute='n')|string", "unique(attribute='n')|list|length", "join(',', attribute='n')", "map('length')|list", "map(attribute='v')|map(attribute='w')|list"],
    "'some <b>text</b> & \"more\"'": ["escape", "e", "forceescape", "urlencode", "upper", "title", "capitalize", "length", "wordcount", "truncate(10)", "truncate(10, true)", "truncate(10, false, '…')", "truncate(10, false, '..', 0)", "center(40)", "replace('e', 'E', 1)", "trim('some')", "indent", "first", "last", "list|length", "reverse", "safe", "string", "tojson", "default('x')", "int(7)", "float(1.5)", "batch(5)|list|length", "format(1)", "dictsort", "sort|join", "unique|join", "map('upper')|join", "select|join|length", "sum"],
    "'first\\nsecond\\n\\nfourth\\n'": ["indent", "indent(2)", "indent('> ')", "indent(2, true)", "indent(2, true, true)", "indent(width=2, blank=true)", "trim", "length", "title", "split('\\n')", "replace('\\n', ' ')", "wordcount", "truncate(8)"],
    "'a\\r\\nb\\rc'": ["indent(2)|tojson", "indent(2, true)|tojson", "length", "tojson"],
    "12.5": ["round", "round(1)", "round(-1)", "round(0, 'floor')", "round(0, 'ceil')", "int", "float", "abs", "string", "tojson", "round(method='common')", "default(1)", "round(1, 'nosuch')"],
    "-7": ["abs", "round", "int", "float", "string", "tojson", "round(-1)", "default(3)", "length", "list", "upper", "trim", "first"],
    "123456789": ["round(-3)", "string|length", "tojson"],
    "none": ["default('x')", "default('x', true)", "string", "tojson", "int", "float", "length", "list", "upper", "join", "first", "trim", "safe", "abs", "sort", "e"],
    "nosuch": ["default('x')", "d('x')", "default", "string", "length", "list", "upper", "join", "first|default('q')", "trim", "int", "float", "sort", "items|list", "e", "sum", "map('upper')|list", "select|list", "tojson"],
    "{'b': 2, 'a': 1, 'C': 3}": ["dictsort", "dictsort(true)", "dictsort(by='value')", "dictsort(false, 'value', true)", "dictsort(reverse=true)", "items|list", "list", "length", "first", "last", "tojson", "tojson(indent=1)", "string", "join", "sort", "map('upper')|list", "urlencode", "dictsort(by='nosuch')", "sum", "min", "max", "unique|list", "reverse|list", "batch(2)|list", "select('equalto', 'a')|list"],
    "true": ["string", "int", "float", "tojson", "default('x')", "abs", "round", "length", "upper"],
    "'3.99'": ["int", "float", "int + 1", "float * 2", "int(default=5)", "int(base=16)", "round"],
    "'0x1A'": ["int", "int(base=16)", "int(0, 16)", "float(9)"],
    "'1e3'": ["int", "float", "int(base=10)"],
    "'z'": ["int", "int(5)", "float", "float(2)", "int(base=36)"],
    "12345678901234567890123": ["string", "tojson", "int", "float", "abs", "round"],
}
for subject, filters in FILTERED.items():
    for f in filters:
        T.append("{{ %s|%s }}" % (subject, f))
VALUES = ["1", "0", "-2", "2.0", "2.5", "'1'", "''", "'Ab'", "'AB'", "'ab'", "true", "false", "none", "nosuch", "[]", "[1]", "(1,)", "{}", "{'a': 1}", "range", "dict", "12345678901234567890"]
for test in ["defined", "undefined", "none", "boolean", "true", "false", "integer", "float", "number", "string", "mapping", "sequence", "iterable", "callable", "odd", "even", "lower", "upper", "divisibleby(2)", "divisibleby 1.5", "eq(1)", "equalto 'ab'", "ne(1)", "sameas none", "sameas true", "in [1, 'ab']", "gt 1", "ge(1)", "lt 1", "le(1)", "greaterthan(0)", "lessthan 2", "filter", "test", "escaped", "nosuch"]:
    for v in VALUES:
        T.append("{{ %s is %s }}" % (v, test))
for f in ["upper", "nosuch"]:
    T += ["{%% if false %%}{{ a|%s }}{%% endif %%}ok" % f, "{%% if true %%}{{ a|%s }}{%% endif %%}ok" % f, "{{ (a|%s) if false else 'b' }}" % f, "{{ (a|%s) if true else 'b' }}" % f, "{{ a|%s }}" % f, "{%% for x in [] %%}{{ x|%s }}{%% endfor %%}" % f,
          "{%% if '%s' is filter %%}{{ a|%s }}{%% else %%}none{%% endif %%}" % (f, f), "{%% macro q() %%}{{ a|%s }}{%% endmacro %%}x" % f, "{%% if false %%}{%% for x in [1] %%}{{ x|%s }}{%% endfor %%}{%% endif %%}y" % f]
T += ["{% if false %}{{ a is nosuch }}{% endif %}ok", "{% if true %}{{ a is nosuch }}{% endif %}ok", "{{ 1 if a is nosuch else 2 }}", "{% if a is nosuch %}{% endif %}", "{{ [1, 2]|select('nosuch')|list if false else 'b' }}"]
T += [
    "{% for k, v in m|groupby('role') %}{{ k }}:{{ v|length }};{% endfor %}", "{% for g in m|groupby('role') %}{{ g.grouper }}{{ g.list|length }}{{ g[0] }}{{ g }}{% endfor %}", "{{ m|groupby('role')|first }}",
    "{% macro q(x, y=2) %}{{ x }}{{ y }}{% endmacro %}{{ q.name }} {{ q.arguments }} {{ q.catch_kwargs }} {{ q.catch_varargs }} {{ q.caller }}", "{% macro q() %}{{ varargs }}{{ kwargs }}{% endmacro %}{{ q.arguments }} {{ q.catch_kwargs }} {{ q.catch_varargs }} {{ q(1, b=2) }}", "{% macro q() %}{{ caller() }}{% endmacro %}{{ q.caller }}",
    "{{ 9223372036854775807 + 1 }} {{ 9223372036854775808 - 1 }} {{ -9223372036854775808 }} {{ 2 ** 64 }} {{ 2 ** 100 % 1000 }}", "{{ 12345678901234567890 * 98765432109876543210 }}", "{{ 10 ** 20 // 3 }} {{ -10 ** 20 // 3 }} {{ 10 ** 20 % -7 }} {{ -(10 ** 20) % 7 }}", "{{ 10 ** 20 / 10 ** 18 }} {{ 10 ** 20 > 10 ** 19 }} {{ 10 ** 20 == 10.0 ** 20 }} {{ 10 ** 20 in [10 ** 20] }}", "{{ {10 ** 20: 'x'}[10 ** 20] }} {{ -(2 ** 70) }} {{ (2 ** 70)|abs }} {{ (2 ** 70)|string|length }}",
    "{{ 2 ** 0.5 }} {{ 2 ** -2 }} {{ 0 ** 0 }} {{ (-2) ** 3 }} {{ (-1) ** 2 }} {{ 7 // 2.0 }} {{ -7 % 2.5 }} {{ 1e308 * 10 }}", "{{ 10.0 ** 400 }}", "{{ 1 / 0 }}", "{{ 5 % 0 }}", "{{ 2 ** 64 is odd }} {{ 2 ** 64 is integer }} {{ (2 ** 64)|tojson }} {{ 2 ** 64 + 0.5 }} {{ [2 ** 64, 1]|sort }} {{ [2 ** 64, 1]|sum }}",
    "{{ 'ΑΣ'.lower() }} {{ 'ΑΣ Β'|lower }} {{ 'ΣΑΣ.'.lower() }} {{ 'İ'.lower()|length }} {{ 'ß'.upper() }} {{ 'ŉ'.upper()|length }} {{ 'ǆ'.title() }} {{ 'ǆ'.capitalize() }} {{ 'ﬃ'.capitalize() }} {{ 'ß'|capitalize }} {{ 'ß'|title }} {{ 'ΑΣ'|title }} {{ 'aΣ'.swapcase() }}",
    "{{ a is callable }} {{ range is callable }} {{ dict is callable }} {{ a.upper is callable }} {{ d.items is callable }} {{ namespace is callable }} {{ cycler is callable }} {{ cycler('a') is callable }} {{ joiner is callable }} {{ joiner() is callable }} {{ raise_exception is callable }} {{ namespace(x=1) is callable }}",
    "{% macro q() %}{% endmacro %}{{ q is callable }} {% for x in [1] %}{{ loop is callable }}{% endfor %} {% for x in [1] recursive %}{{ loop is callable }}{% endfor %} {% call q() %}{{ caller is defined }}{% endcall %}",
    "{{ l.count(1) }} {{ l.index(2) }} {{ l.index(9) }}", "{{ l.append(1) }}", "{{ d.update({'x': 1}) }}", "{{ d.pop('b') }}", "{{ l.sort() }}", "{{ d.setdefault('q', 1) }}", "{{ l.copy() }} {{ d.copy() }} {{ d.get('b') }} {{ d.get() }}", "{{ (1, 2, 1).count(1) }} {{ (1, 2).index(2) }}", "{{ d.keys() }} {{ d.values() }} {{ d.items() }}",
    "{{ 'a' 'b' }}", "{{ 'a'\n'b' }}", "{{ [1, 2, 3][1:][0] }} {{ 'abc'[::2] }} {{ [1, 2, 3][::-1] }} {{ (1, 2, 3)[:2] }}", "{{ 1.__class__ }}", "{{ ''.__class__ }}|", "{{ a._x }}|", "{{ a['upper']() }}|", "{{ d['items']() }}|", "{{ 3 | string | upper }}", "{{ not none is none }}", "{{ none is not none }}", "{{ 1 is not odd }}", "{{ 3 is odd and 2 is even }}", "{{ 5 is divisibleby 5 }} {{ 4.5 is divisibleby 1.5 }} {{ 5 is divisibleby 2.5 }}",
    "{{ a|attr('upper') is callable }} {{ d|attr('b') }}| {{ d|attr('items') is callable }}", "{{ [1, [2, [3]]]|string }} {{ (1,)|string }} {{ ()|string }} {{ {}|string }} {{ {1: (2, 'x')}|string }} {{ 'it\\'s'|list|string }} {{ ['\"', \"'\", '\\\\', '\\n', 'é', '\\x00', '\\u200b']|string }}",
    "{{ namespace(a=1).a }} {{ namespace({'b': 2}, c=3).b }} {% set ns = namespace(x=1) %}{% set ns.x = 2 %}{{ ns.x }} {{ ns.y }}| {{ ns['x'] }}", "{% set x, y = 1, 2 %}{{ x }}{{ y }} {% set x = 1, 2 %}{{ x }}", "{% for a, (b, c) in [(1, (2, 3))] %}{{ a }}{{ b }}{{ c }}{% endfor %}", "{% for x in 'añb' %}{{ loop.index }}{{ x }}{% endfor %}", "{% for k in d %}{{ k }}{{ d[k] }}{% endfor %}", "{% for x in none %}{% endfor %}", "{% for x in 5 %}{% endfor %}", "{% for x in nosuch %}{% else %}empty{% endfor %}",
    "{{ 'a,b'|replace(',', ';')|upper ~ 1 }} {{ '%s'|format('x') }} {{ '%(a)s %(b)d'|format(a='x', b=2) }} {{ 'x'|center(5)|tojson }} {{ 'abc'|reverse }} {{ [1, 2]|reverse|list }}", "{{ 'x'.join(['a', 'b']) }} {{ 'x'.join({'a': 1, 'b': 2}) }} {{ ', '.join(l|map('string')) }}", "{{ '1,2;3'.split(',') }} {{ ' a  b '.split() }} {{ ' a  b '.split(' ') }} {{ 'a\\nb\\r\\nc'.splitlines() }} {{ 'a b c'.rsplit(' ', 1) }} {{ 'a b c'.rsplit() }}",
    "{{ 0.1 + 0.2 }} {{ 1e15 }} {{ 1e16 }} {{ 123456789.123456789 }} {{ 1.5e-5 }} {{ 3.0 }} {{ -0.0 }} {{ 1e22 }} {{ 1.1|round(1) }} {{ 2.675|round(2) }} {{ 0.5|round }} {{ 1.5|round }} {{ 1e100|int }} {{ 1e20|int }} {{ (0.1)|string }}", "{{ 1_000 + 0b11 + 0o17 + 0xff }} {{ 1.5_0 }}", "{{ 'x' < 'y' }} {{ [1, 2] < [1, 3] }} {{ (1,) < (1, 0) }} {{ 1 < 'x' }}", "{{ true + 1 }} {{ true == 1 }} {{ [true] == [1] }} {{ {true: 'x'}[1] }} {{ 1 in [true] }} {{ '1' in 'a1' }} {{ 1 in 'a1' }}",
]

cases = []
for template in T + BLOCKS + BROKEN:
    case = {"template": template, "vars": V}
    try:
        case["out"] = env.from_string(template).render(**copy.deepcopy(V))
    except Exception as e:
        case["error"] = True
        case["reference_said"] = f"{type(e).__name__}: {e}"
    cases.append(case)

with open("cases.json", "w") as f:
    json.dump({"vars": V, "cases": [{k: v for k, v in c.items() if k != "vars"} for c in cases]}, f, ensure_ascii=False, indent=0)
print(len(cases), "cases,", sum("error" in c for c in cases), "errors")
