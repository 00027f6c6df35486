using System.Buffers.Binary;
using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;

namespace Oikonom.Proofs;

/// <summary>What a tree of a size was at an instant, signed with ECDSA over P-256 and SHA-256.</summary>
/// <param name="Size">How many leaves it has.</param>
/// <param name="Root">The root, in lower-case hexadecimal.</param>
/// <param name="At">When it was signed, in milliseconds since 1970.</param>
/// <param name="Signature">In Base64, over <see cref="Bytes"/>.</param>
/// <param name="Key">The key that signed, as <see cref="LedgerKey.Id"/> names it.</param>
public sealed record SignedHead(long Size, string Root, long At, string Signature, string Key)
{
    /// <summary>What others wrote is read whole or not at all: nothing is missing, and nothing is null that may not be.</summary>
    internal static readonly JsonSerializerOptions Strict = new(JsonSerializerDefaults.Web)
    {
        RespectNullableAnnotations = true,
        RespectRequiredConstructorParameters = true,
    };

    /// <summary>What is signed: size and time (64 bits each, big-endian), then the root.</summary>
    public static byte[] Bytes(long size, ReadOnlySpan<byte> root, long at)
    {
        var bytes = new byte[16 + root.Length];
        BinaryPrimitives.WriteInt64BigEndian(bytes, size);
        BinaryPrimitives.WriteInt64BigEndian(bytes.AsSpan(8), at);
        root.CopyTo(bytes.AsSpan(16));
        return bytes;
    }

    /// <summary>True when the signature is that of the key, a SubjectPublicKeyInfo in Base64.</summary>
    public bool IsSignedBy(string publicKey)
    {
        try
        {
            using var key = ECDsa.Create();
            key.ImportSubjectPublicKeyInfo(Convert.FromBase64String(publicKey), out _);
            return key.VerifyData(
                Bytes(Size, Convert.FromHexString(Root), At),
                Convert.FromBase64String(Signature),
                HashAlgorithmName.SHA256
            );
        }
        catch (Exception error) when (error is CryptographicException or FormatException)
        {
            return false;
        }
    }

    public string ToJson() => JsonSerializer.Serialize(this, JsonSerializerOptions.Web);

    /// <exception cref="JsonException">The text is no head.</exception>
    public static SignedHead FromJson(string text) =>
        JsonSerializer.Deserialize<SignedHead>(text, Strict) ?? throw new JsonException("It is no signed head.");

    public override string ToString() =>
        string.Create(CultureInfo.InvariantCulture, $"head of {Size} entries, {Root[..Math.Min(12, Root.Length)]}…");
}

/// <summary>
/// A key heads are signed with, in the history of keys. Each but the first is named by the one before it, which signs
/// the new key and the size from which on it signs.
/// </summary>
/// <param name="Id">The first 16 hexadecimal digits of SHA-256 over the public key.</param>
/// <param name="PublicKey">SubjectPublicKeyInfo in Base64.</param>
/// <param name="FromSize">Heads of more leaves than this are signed with it, up to the next key's.</param>
/// <param name="By">The key that named it; its own id for the first.</param>
/// <param name="Signature">Of <paramref name="By"/>, in Base64.</param>
public sealed record LedgerKey(string Id, string PublicKey, long FromSize, long At, string By, string Signature)
{
    public static string IdOf(string publicKey) => Convert.ToHexStringLower(SHA256.HashData(Convert.FromBase64String(publicKey)))[..16];

    /// <summary>What the naming key signs: size and time (64 bits each, big-endian), then the new public key.</summary>
    public static byte[] Bytes(string publicKey, long fromSize, long at) =>
        SignedHead.Bytes(fromSize, Convert.FromBase64String(publicKey), at);

    /// <summary>What is wrong with a history of keys, or null.</summary>
    public static string? Fault(IReadOnlyList<LedgerKey> keys)
    {
        for (var i = 0; i < keys.Count; i++)
        {
            var (key, by) = (keys[i], i == 0 ? keys[0] : keys[i - 1]);
            try
            {
                if (IdOf(key.PublicKey) != key.Id || key.By != by.Id || key.FromSize < by.FromSize)
                    return $"The history of keys is broken at {key.Id}.";
                using var naming = ECDsa.Create();
                naming.ImportSubjectPublicKeyInfo(Convert.FromBase64String(by.PublicKey), out _);
                if (
                    !naming.VerifyData(
                        Bytes(key.PublicKey, key.FromSize, key.At),
                        Convert.FromBase64String(key.Signature),
                        HashAlgorithmName.SHA256
                    )
                )
                    return $"The key {key.Id} was not named by {by.Id}.";
            }
            catch (Exception error) when (error is CryptographicException or FormatException)
            {
                return $"The key {key.Id} cannot be read.";
            }
        }
        return keys.Count == 0 ? "No key is pinned." : null;
    }

    /// <summary>The key that signs heads of a size.</summary>
    public static LedgerKey? For(IReadOnlyList<LedgerKey> keys, long size) =>
        keys.LastOrDefault(k => k.FromSize < size) ?? keys.FirstOrDefault();

    /// <summary>What is wrong with the signature of a head, or null: it must be that of the key which signs at its size.</summary>
    public static string? Fault(IReadOnlyList<LedgerKey> keys, SignedHead head)
    {
        if (For(keys, head.Size) is not { } key)
            return "No key is pinned.";
        if (head.Key != key.Id)
            return $"The {head} is signed with the key {head.Key}, and not with the pinned {key.Id}.";
        return head.IsSignedBy(key.PublicKey) ? null : $"The signature of the {head} is not sound.";
    }
}
