using CsCheck;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;
using Xunit;

namespace Oikonom.Core.Tests;

public sealed class FactsTests
{
    private static readonly NameSchema Schema = Northmere.Edition.Rulebook.Attributes;

    [Fact]
    public void Facts_come_back_from_json_as_they_were() =>
        Gen.Select(Gen.String, Gen.String, Gen.Int[0, 20_000])
            .Sample(
                (given, family, day) =>
                {
                    if (System.Text.Encoding.UTF8.GetString(System.Text.Encoding.UTF8.GetBytes(given + family)) != given + family)
                        return;
                    var facts = new Facts([
                        new("given", Value.Of(given)),
                        new("family", Value.Of(family)),
                        new("start", Value.Of(DateOnly.FromDayNumber(720_000 + day))),
                        new("end", Value.Null),
                    ]);
                    var back = Facts.FromJson(facts.ToJson(), Schema);
                    Assert.Empty(facts.DifferenceTo(back));
                    Assert.Equal(ValueKind.Date, back["start"].Kind);
                },
                iter: 500
            );

    [Fact]
    public void An_empty_value_is_no_value()
    {
        var facts = new Facts([new("given", Value.Of("")), new("end", Value.Null)]);
        Assert.Empty(facts.Values);
        Assert.Null(facts.End);
        Assert.Equal("{}", facts.ToJson());
    }

    [Fact]
    public void A_difference_names_what_was_and_what_is()
    {
        var before = new Facts([new("title", Value.Of("Diver")), new("phone", Value.Of("1"))]);
        var after = new Facts([new("title", Value.Of("Keeper")), new("end", Value.Of(new DateOnly(2027, 1, 31)))]);
        Assert.Equal([new("end", "", "2027-01-31"), new("phone", "1", ""), new("title", "Diver", "Keeper")], before.DifferenceTo(after));
    }

    [Fact]
    public void Values_are_equal_by_content_and_ordered_within_their_kind()
    {
        Assert.True(Value.Of([Value.Of("a"), Value.Of(1)]) == Value.Of([Value.Of("a"), Value.Of(1)]));
        Assert.NotEqual(Value.Of("1"), Value.Of(1));
        Assert.True(Value.Compare(Value.Of(new DateOnly(2026, 1, 1)), Value.Of(new DateOnly(2026, 1, 2))) < 0);
        Assert.Null(Value.Compare(Value.Of(1), Value.Of("1")));
        Assert.Null(Value.Compare(Value.Null, Value.Null));
        Assert.Equal("P7D", Value.Of(TimeSpan.FromDays(7)).ToString());
        Assert.Equal("2026-11-25T12:00:00Z", Value.Of(new DateTimeOffset(2026, 11, 25, 13, 0, 0, TimeSpan.FromHours(1))).ToString());
    }

    [Theory]
    [InlineData("departmnt", "department", " Did you mean 'department'?")]
    [InlineData("DEPARTMENT", "department", " Did you mean 'department'?")]
    [InlineData("xyz", "department", "")]
    [InlineData("", "department", "")]
    public void The_nearest_name_is_suggested_only_when_it_is_near(string typed, string known, string hint) =>
        Assert.Equal(hint, Nearest.Hint(typed, [known]));

    [Fact]
    public void Ids_of_a_series_rise_keep_their_form_and_never_meet()
    {
        var at = new DateTimeOffset(2026, 11, 25, 8, 0, 0, 123, TimeSpan.Zero);
        var (one, other) = (new IdSeries(at), new IdSeries(at));
        var ids = Enumerable.Range(0, 5000).SelectMany(_ => new[] { one.Next(), other.Next() }).ToList();
        Assert.Equal(10_000, ids.Distinct().Count());
        Assert.All(
            ids,
            id =>
            {
                // RFC 9562: version 7, the variant of the standard, and milliseconds since 1970 in front.
                Assert.Equal((7, true), (id.Version, id.Variant is >= 8 and <= 11));
                Assert.Equal($"{at.ToUnixTimeMilliseconds():x12}", $"{id:N}"[..12]);
            }
        );
        var texts = ids.Where((_, i) => i % 2 == 0).Select(id => id.ToString()).ToList();
        Assert.Equal(texts.Order(StringComparer.Ordinal), texts);
    }

    [Fact]
    public void Text_that_was_let_go_is_written_the_same_again()
    {
        var facts = new Facts([new("given", Value.Of("Tor")), new("start", Value.Of(new DateOnly(2026, 12, 1)))]);
        var text = facts.ToJson();
        facts.LetTextGo();
        Assert.NotSame(text, facts.ToJson());
        Assert.Equal(text, facts.ToJson());
    }
}
