using CsCheck;
using Oikonom.Core.Expressions;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class ExpressionTests
{
    private static readonly NameSchema Schema = new([
        new("given", ExpressionType.String),
        new("family", ExpressionType.String),
        new("department", ExpressionType.String),
        new("level", ExpressionType.Int),
        new("active", ExpressionType.Bool),
        new("start", ExpressionType.Date),
        new("end", ExpressionType.Date),
        new("tags", ExpressionType.ListOf(ExpressionType.String)),
        new("row.first name", ExpressionType.String),
        new("row.start_date", ExpressionType.String),
    ]);

    private static Scope Values()
    {
        var scope = new Scope(Schema);
        scope[Schema.IndexOf("given")] = Value.Of("Zoë");
        scope[Schema.IndexOf("family")] = Value.Of("D'Arcy");
        scope[Schema.IndexOf("department")] = Value.Of("Dive Team");
        scope[Schema.IndexOf("level")] = Value.Of(3);
        scope[Schema.IndexOf("active")] = Value.Of(true);
        scope[Schema.IndexOf("start")] = Value.Of(new DateOnly(2026, 11, 2));
        scope[Schema.IndexOf("tags")] = Value.Of([Value.Of("night"), Value.Of("boat")]);
        scope[Schema.IndexOf("row.first name")] = Value.Of("Kaya");
        scope[Schema.IndexOf("row.start_date")] = Value.Of("02.11.2026");
        return scope;
    }

    [Theory]
    [InlineData("given + '.' + family", "Zoë.D'Arcy")]
    [InlineData("lower(ascii(given))", "zoe")]
    [InlineData("given.ascii().upper()", "ZOE")]
    [InlineData("department == 'Dive Team' && level >= 3", "true")]
    [InlineData("department == 'Dive Team' || level / 0 == 1", null)]
    [InlineData("!(level < 3) ? 'senior' : 'junior'", "senior")]
    [InlineData("department in ['Research', \"Dive Team\"]", "true")]
    [InlineData("tags.exists(t, t.startsWith('bo'))", "true")]
    [InlineData("tags.all(t, size(t) > 4)", "false")]
    [InlineData("tags.filter(t, t != 'boat').map(t, upper(t)).join('+')", "NIGHT")]
    [InlineData("tags[1]", "boat")]
    [InlineData("start + duration('P7D')", "2026-11-09")]
    [InlineData("start - duration('P2W')", "2026-10-19")]
    [InlineData("end == null", "true")]
    [InlineData("end < start", "false")]
    [InlineData("row['first name'].replace('a', 'o')", "Koyo")]
    [InlineData("date(row.start_date, 'dd.MM.yyyy') == start", "true")]
    [InlineData("'a,b,c'.split(',')[2]", "c")]
    [InlineData("'abcdef'.substring(2, 3)", "cde")]
    [InlineData("'abc'.substring(9)", "")]
    [InlineData("family.matches('^D.Arcy$')", "true")]
    [InlineData("  trim('  x ') + string(level + 1 - 2)", "x2")]
    [InlineData("family.contains('Ar') && family.endsWith('cy')", "true")]
    [InlineData("year(start)", "2026")]
    [InlineData("tags[0] + tags[1]", "nightboat")]
    [InlineData("([] + tags)[0]", "night")]
    [InlineData("(tags + [])[1]", "boat")]
    [InlineData("size(tags + ['deep'])", "3")]
    [InlineData("tags.exists(t, t == 'boat')", "true")]
    [InlineData("tags.exists(t, t == 'deep')", "false")]
    [InlineData("[].exists(t, true)", "false")]
    [InlineData("tags.all(t, size(t) >= 4)", "true")]
    [InlineData("tags.all(t, t == 'night')", "false")]
    [InlineData("[].all(t, false)", "true")]
    [InlineData("'deep' in tags", "false")]
    [InlineData("'boat' in tags", "true")]
    [InlineData("start - start == duration('P0D')", "true")]
    [InlineData("start + duration('P3D') - start == duration('P3D')", "true")]
    [InlineData("end - start == null", "true")]
    [InlineData("start - end == null", "true")]
    [InlineData("end + duration('P3D') == null", "true")]
    [InlineData("duration('P1D') + duration('P2D') == duration('P3D')", "true")]
    [InlineData("size(''.split(','))", "1")]
    [InlineData("size('abc'.split(''))", "1")]
    [InlineData("'aXbXc'.split('X').join('-')", "a-b-c")]
    public void Evaluates(string text, string? expected)
    {
        if (expected is null)
        {
            Assert.Throws<ExpressionError>(() => Expression.Compile(text, Schema));
            return;
        }
        Assert.Equal(expected, Expression.Compile(text, Schema).Evaluate(Values()).ToString());
    }

    [Theory]
    [InlineData("departmnt == 'x'", 0, "Did you mean 'department'?")]
    [InlineData("level == 'x'", 9, "cannot be compared")]
    [InlineData("level && active", 0, "must be true/false")]
    [InlineData("lowr(given)", 0, "Did you mean 'lower'?")]
    [InlineData("lower(level)", 6, "must be string")]
    [InlineData("given ==", 8, "too early")]
    [InlineData("given == 'open", 9, "no closing quote")]
    [InlineData("row.start_dat", 4, "Did you mean 'start_date'?")]
    [InlineData("['a', 1]", 6, "holds one type")]
    [InlineData("given.family", 6, "has no member")]
    [InlineData("duration('7 days')", 0, "ISO 8601")]
    [InlineData("given.matches('(')", 14, "not usable")]
    [InlineData("given # family", 6, "no meaning")]
    [InlineData("1 + 'a'", 2, "does not work between")]
    public void Refuses_with_the_place(string text, int position, string part)
    {
        var error = Assert.Throws<ExpressionError>(() => Expression.Compile(text, Schema));
        Assert.Contains(part, error.Message, StringComparison.Ordinal);
        Assert.Equal(position, error.Position);
    }

    [Fact]
    public void A_text_that_is_no_date_is_a_fault_with_the_value() =>
        Assert.Contains(
            "'02.11.2026' is not a date",
            Assert.Throws<ExpressionFault>(() => Expression.Compile("date(row.start_date)", Schema).Evaluate(Values())).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void Depth_and_length_are_bounded()
    {
        Assert.Throws<ExpressionError>(() => Expression.Compile(new string('(', 3000) + "1" + new string(')', 3000), Schema));
        Assert.Throws<ExpressionError>(() => Expression.Compile(new string('!', 3000) + "active", Schema));
        Assert.Throws<ExpressionError>(() => Expression.Compile("'" + new string('x', 5000) + "'", Schema));
    }

    [Theory]
    [InlineData("tags[2]", "there is none at 2")]
    [InlineData("tags[0 - 1]", "there is none at -1")]
    [InlineData("tags[level]", "there is none at 3")]
    [InlineData("date('9999-12-31') + duration('P1D')", "leaves the calendar")]
    [InlineData("date('0001-01-01') - duration('P1D')", "leaves the calendar")]
    public void What_cannot_be_is_a_fault_that_says_so(string text, string part) =>
        Assert.Contains(
            part,
            Assert.Throws<ExpressionFault>(() => Expression.Compile(text, Schema).Evaluate(Values())).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void A_text_is_built_up_to_its_most()
    {
        var half = new string('x', 32_768);
        var scope = Values();
        scope[Schema.IndexOf("given")] = scope[Schema.IndexOf("family")] = Value.Of(half);
        Assert.Equal(65_536, Expression.Compile("given + family", Schema).Evaluate(scope).ToString().Length);
        Assert.Throws<ExpressionFault>(() => Expression.Compile("given + family + 'x'", Schema).Evaluate(scope));
        Assert.Throws<ExpressionFault>(() => Expression.Compile("'x' + (given + family)", Schema).Evaluate(scope));
    }

    [Fact]
    public void Growth_is_bounded()
    {
        var doubling = "'" + new string('x', 100) + "'" + string.Concat(Enumerable.Repeat(".replace('x', 'xxxxxxxxxx')", 9));
        Assert.Throws<ExpressionFault>(() => Expression.Compile(doubling, Schema).Evaluate(Values()));
    }

    [Fact]
    public void Any_text_is_an_expression_or_an_error()
    {
        var pieces = Any.Of(
            "given",
            "level",
            "(",
            ")",
            "[",
            "]",
            ".",
            "==",
            "&&",
            "||",
            "!",
            "?",
            ":",
            "+",
            "-",
            "'x'",
            "1",
            "in",
            "exists",
            "map",
            "t",
            ",",
            "lower",
            "date",
            " ",
            "\"",
            "\\",
            "é",
            "\0"
        );
        pieces
            .Array[0, 25]
            .Select(parts => string.Concat(parts))
            .Sample(
                text =>
                {
                    try
                    {
                        Expression.Compile(text, Schema).Evaluate(Values());
                    }
                    catch (Exception error) when (error is ExpressionError or ExpressionFault)
                    {
                        // Told, not crashed.
                    }
                },
                iter: 20_000
            );
    }

    [Fact]
    public void References_name_what_is_read() =>
        Assert.Equal(["department", "level"], Expression.Compile("department == 'x' && level > 2 && department != 'y'", Schema).References);
}
