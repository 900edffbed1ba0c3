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
