using System.Text.Json.Serialization;

namespace Oikonom.Core.Intake;

/// <summary>Where a run stands that the brake holds.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<HeldState>))]
public enum HeldState
{
    [JsonStringEnumMemberName("held")]
    Held,

    /// <summary>Somebody let it through as it was.</summary>
    [JsonStringEnumMemberName("passed")]
    Passed,

    [JsonStringEnumMemberName("dropped")]
    Dropped,

    /// <summary>A later run of the source made it pointless.</summary>
    [JsonStringEnumMemberName("superseded")]
    Superseded,
}

/// <summary>What can happen to a held run.</summary>
public enum HeldEvent
{
    Pass,
    Drop,
    Supersede,
}

/// <summary>The state machine of a held run. Pure.</summary>
public static class HeldMachine
{
    /// <exception cref="RefusedMove">Something was decided about it already.</exception>
    public static HeldState Next(HeldState state, HeldEvent what) =>
        (state, what) switch
        {
            (HeldState.Held, HeldEvent.Pass) => HeldState.Passed,
            (HeldState.Held, HeldEvent.Drop) => HeldState.Dropped,
            (HeldState.Held, HeldEvent.Supersede) => HeldState.Superseded,
            _ => throw new RefusedMove("wrong-state", $"The run was {EnumText.Of(state)}; nothing is to be decided about it any more."),
        };
}
