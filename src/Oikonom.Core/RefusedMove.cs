namespace Oikonom.Core;

/// <summary>A move that a state machine refuses; the message says what the state is and what is possible.</summary>
public sealed class RefusedMove(string code, string message) : Exception(message)
{
    /// <summary>Stable code for callers, such as <c>wrong-state</c>.</summary>
    public string Code { get; } = code;
}
