using System.Globalization;
using CsCheck;
using Oikonom.Core.Approval;
using Oikonom.Core.Expressions;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>The part of the organisation that a role reaches.</summary>
public sealed class ReachTests
{
    private static readonly Gen<string> Place = Any.Of("harbour", "saltmarsh", "reefpoint");
    private static readonly Gen<Reach> Some = Gen.Select(Place.List[0, 2], Place.List[0, 2], Place.List[0, 2])
        .Select((sites, departments, targets) => new Reach(sites, departments, targets));

    [Fact]
    public void A_limit_survives_its_json_and_a_role_that_is_not_named_has_none() =>
        Gen.Select(Some, Some)
            .Sample(
                (one, other) =>
                {
                    var read = Reach.FromJson(Reach.ToJson(new Dictionary<string, Reach> { ["approver"] = one, ["operator"] = other }));
                    Assert.Equal(2, read.Count);
                    Assert.Equal(one.Sites, read["approver"].Sites);
                    Assert.Equal(one.Departments, read["approver"].Departments);
                    Assert.Equal(one.Targets, read["approver"].Targets);
                    Assert.Equal(other.IsEverywhere, read["operator"].IsEverywhere);
                    Assert.Empty(Reach.FromJson("{}"));
                },
                iter: 300
            );

    [Fact]
    public void Another_place_never_takes_one_away_and_no_limit_covers_all() =>
        Gen.Select(Some, Place, Place, Place)
            .Sample(
                (reach, site, department, more) =>
                {
                    Assert.True(Reach.Everywhere.Covers(site, department) && Reach.Everywhere.CoversTarget(more));
                    if (reach.Sites.Count > 0 && reach.Covers(site, department))
                        Assert.True((reach with { Sites = [.. reach.Sites, more] }).Covers(site, department));
                    if (reach.Sites.Count > 0 && !reach.Sites.Contains(site))
                        Assert.False(reach.Covers(site, department));
                    if (reach.Departments.Count > 0 && !reach.Departments.Contains(department))
                        Assert.False(reach.Covers(site, department));
                    Assert.Equal(reach.Targets.Count == 0 || reach.Targets.Contains(more), reach.CoversTarget(more));
                },
                iter: 1000
            );

    [Fact]
    public void A_limit_written_by_hand_with_gaps_is_read() =>
        Assert.True(
            Reach.FromJson("""{"auditor":{"sites":["harbour"],"departments":null}}""")["auditor"]
                is { Sites: ["harbour"], Departments.Count: 0, Targets.Count: 0 }
        );
}

/// <summary>The texts of notices.</summary>
public sealed class NoticeTextTests
{
    [Fact]
    public void Each_built_in_text_uses_only_names_that_have_a_meaning() =>
        Assert.All(
            NoticeEvents.All,
            text =>
            {
                Assert.All(NoticeEvents.NamesIn(text.Value.Subject + text.Value.Body), name => Assert.Contains(name, NoticeEvents.Names));
                Assert.DoesNotContain("\n", text.Value.Subject, StringComparison.Ordinal);
            }
        );

    [Fact]
    public void What_is_filled_in_is_never_read_as_a_text_itself() =>
        Gen.String.Sample(
            value =>
            {
                var filled = NoticeEvents.Fill(
                    "a {{ person }} b {{number}}",
                    new Dictionary<string, string> { ["person"] = value + "{{number}}", ["number"] = "42" }
                );
                Assert.Equal($"a {value}{{{{number}}}} b 42", filled);
            },
            iter: 1000
        );

    [Theory]
    [InlineData("{{nothing}}", "")]
    [InlineData("{{Person}}", "{{Person}}")]
    [InlineData("{person}", "{person}")]
    [InlineData("{{{person}}}", "{Tor}")]
    public void Only_a_name_between_double_braces_is_filled_in(string text, string filled) =>
        Assert.Equal(filled, NoticeEvents.Fill(text, new Dictionary<string, string> { ["person"] = "Tor" }));
}

/// <summary>Suggestions for mistyped names.</summary>
public sealed class NearestTests
{
    [Theory]
    [InlineData("harbor", " Did you mean 'harbour'?")]
    [InlineData("HARBOUR", " Did you mean 'harbour'?")]
    [InlineData("reefpiont", " Did you mean 'reefpoint'?")]
    [InlineData("moon", "")]
    [InlineData("", "")]
    public void The_nearest_known_name_is_suggested_and_nothing_far_off(string name, string hint) =>
        Assert.Equal(hint, Nearest.Hint(name, ["saltmarsh", "harbour", "reefpoint"]));

    [Fact]
    public void A_name_of_any_length_costs_little_and_never_fails()
    {
        Gen.Select(Gen.String[0, 5000], Gen.String[0, 5000])
            .Sample((one, other) => Assert.NotNull(Nearest.Hint(one, [other, "harbour"])), iter: 200);
        // All pairs of letters of two names of a million would take a day.
        var endless = new string('a', 1_000_000);
        var watch = System.Diagnostics.Stopwatch.StartNew();
        Assert.Equal("", Nearest.Hint(endless, [endless + "b", endless]));
        Assert.InRange(watch.Elapsed, TimeSpan.Zero, TimeSpan.FromSeconds(5));
        Assert.Equal("", Nearest.Hint(new string('a', 64), [new string('a', 65)]));
        Assert.Equal($" Did you mean '{new string('a', 64)}'?", Nearest.Hint(new string('a', 63), [new string('a', 64)]));
    }
}

/// <summary>A few values by name.</summary>
public sealed class SmallMapTests
{
    [Fact]
    public void It_holds_what_a_dictionary_holds_and_finds_it_in_any_case() =>
        Gen.Select(Gen.String[Gen.Char["abcXYZ-"], 1, 4], Gen.Int)
            .List[0, 12]
            .Sample(
                pairs =>
                {
                    var sorted = new SortedDictionary<string, int>(StringComparer.OrdinalIgnoreCase);
                    foreach (var (name, value) in pairs)
                        sorted[name] = value;
                    var map = SmallMap<int>.Of(sorted);
                    Assert.Equal(sorted.ToList(), map.ToList());
                    Assert.Equal(sorted.Keys, map.Keys);
                    Assert.All(
                        sorted,
                        pair =>
                            Assert.True(
                                map.TryGetValue(pair.Key.ToUpperInvariant(), out var found)
                                    && found == pair.Value
                                    && map[pair.Key.ToLowerInvariant()] == found
                            )
                    );
                    Assert.False(map.ContainsKey("nothing"));
                    Assert.Throws<KeyNotFoundException>(() => map["nothing"]);
                },
                iter: 500
            );
}

/// <summary>Clocks of places as instants.</summary>
public sealed class ClockTests
{
    [Theory]
    [InlineData("Europe/Lisbon", "2026-03-29T01:30:00", "2026-03-29T01:00:00Z")]
    [InlineData("Europe/Lisbon", "2026-10-25T01:30:00", "2026-10-25T00:30:00Z")]
    [InlineData("Australia/Hobart", "2026-10-04T02:30:00", "2026-10-03T16:00:00Z")]
    [InlineData("America/Halifax", "2026-11-01T01:30:00", "2026-11-01T04:30:00Z")]
    [InlineData("America/Halifax", "2026-03-08T02:12:00", "2026-03-08T06:00:00Z")]
    public void An_hour_that_is_leapt_over_is_the_next_and_one_that_comes_twice_is_its_first(string zone, string local, string instant) =>
        Assert.Equal(
            DateTimeOffset.Parse(instant, CultureInfo.InvariantCulture),
            SiteDays.InstantOf(DateTime.Parse(local, CultureInfo.InvariantCulture), TimeZoneInfo.FindSystemTimeZoneById(zone))
        );

    [Fact]
    public void A_later_clock_is_never_an_earlier_instant() =>
        Gen.Select(
                Any.Of("Europe/Lisbon", "America/Halifax", "Australia/Hobart", "Australia/Lord_Howe"),
                Gen.Int[0, 525_600],
                Gen.Int[0, 300]
            )
            .Sample(
                (name, minute, more) =>
                {
                    var zone = TimeZoneInfo.FindSystemTimeZoneById(name);
                    var local = new DateTime(2026, 1, 1).AddMinutes(minute);
                    var (one, later) = (SiteDays.InstantOf(local, zone), SiteDays.InstantOf(local.AddMinutes(more), zone));
                    Assert.True(later >= one, $"{name} {local:o}");
                    if (!zone.IsInvalidTime(local))
                        Assert.Equal(local, TimeZoneInfo.ConvertTime(one, zone).DateTime);
                },
                iter: 5000
            );
}
