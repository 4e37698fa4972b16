using System.Globalization;

namespace Vembar.Windows.Servicing.Languages;

/// <summary>What Windows knows of a locale.</summary>
/// <param name="Name">Its name ("cy-GB").</param>
/// <param name="Id">Its number (0x0452).</param>
/// <param name="CodePage">The code page of programs without Unicode.</param>
/// <param name="ConsoleCodePage">That of the console.</param>
/// <param name="Layout">The keyboard layout that goes with it ("00000452").</param>
/// <remarks>Source: [MS-LCID] for the numbers; the vendor's "Default input profiles (input locales)" for the layouts; "Code page
/// identifiers".</remarks>
public sealed record KnownLocale(string Name, ushort Id, int CodePage, int ConsoleCodePage, string Layout)
{
    private static readonly Dictionary<string, KnownLocale> s_all = Parse(
        """
        af-ZA 0436 1252 850 00000409
        ar-AE 3801 1256 720 00000401
        ar-EG 0c01 1256 720 00000401
        ar-SA 0401 1256 720 00000401
        bg-BG 0402 1251 866 00030402
        ca-ES 0403 1252 850 0000040a
        cs-CZ 0405 1250 852 00000405
        cy-GB 0452 1252 850 00000452
        da-DK 0406 1252 850 00000406
        de-AT 0c07 1252 850 00000407
        de-CH 0807 1252 850 00000807
        de-DE 0407 1252 850 00000407
        el-GR 0408 1253 737 00000408
        en-AU 0c09 1252 850 00000409
        en-CA 1009 1252 850 00000409
        en-GB 0809 1252 850 00000809
        en-IE 1809 1252 850 00001809
        en-IN 4009 1252 437 00004009
        en-NZ 1409 1252 850 00001409
        en-US 0409 1252 437 00000409
        en-ZA 1c09 1252 437 00000409
        es-AR 2c0a 1252 850 0000080a
        es-ES 0c0a 1252 850 0000040a
        es-MX 080a 1252 850 0000080a
        et-EE 0425 1257 775 00000425
        eu-ES 042d 1252 850 0000040a
        fi-FI 040b 1252 850 0000040b
        fr-BE 080c 1252 850 0000080c
        fr-CA 0c0c 1252 850 00001009
        fr-CH 100c 1252 850 0000100c
        fr-FR 040c 1252 850 0000040c
        ga-IE 083c 1252 850 00001809
        gd-GB 0491 1252 850 00011809
        gl-ES 0456 1252 850 0000040a
        he-IL 040d 1255 862 0002040d
        hi-IN 0439 0 1 00010439
        hr-HR 041a 1250 852 0000041a
        hu-HU 040e 1250 852 0000040e
        id-ID 0421 1252 850 00000409
        is-IS 040f 1252 850 0000040f
        it-CH 0810 1252 850 00000807
        it-IT 0410 1252 850 00000410
        ja-JP 0411 932 932 00000411
        ko-KR 0412 949 949 00000412
        lb-LU 046e 1252 850 0000046e
        lt-LT 0427 1257 775 00010427
        lv-LV 0426 1257 775 00020426
        mk-MK 042f 1251 866 0001042f
        mt-MT 043a 0 1 0000043a
        nb-NO 0414 1252 850 00000414
        nl-BE 0813 1252 850 00000813
        nl-NL 0413 1252 850 00020409
        nn-NO 0814 1252 850 00000414
        pl-PL 0415 1250 852 00000415
        pt-BR 0416 1252 850 00000416
        pt-PT 0816 1252 850 00000816
        ro-RO 0418 1250 852 00010418
        ru-RU 0419 1251 866 00000419
        sk-SK 041b 1250 852 0000041b
        sl-SI 0424 1250 852 00000424
        sq-AL 041c 1250 852 0000041c
        sv-FI 081d 1252 850 0000041d
        sv-SE 041d 1252 850 0000041d
        th-TH 041e 874 874 0000041e
        tr-TR 041f 1254 857 0000041f
        uk-UA 0422 1251 866 00020422
        vi-VN 042a 1258 1258 0000042a
        zh-CN 0804 936 936 00000804
        zh-HK 0c04 950 950 00000404
        zh-TW 0404 950 950 00000404
        """);

    /// <summary>A locale by its name, without regard to case; null when it is not known here.</summary>
    public static KnownLocale? Named(string name) => s_all.GetValueOrDefault(name);

    /// <summary>All names.</summary>
    public static IEnumerable<string> Names => s_all.Keys;

    /// <summary>The number as four hexadecimal digits.</summary>
    public string Number => Id.ToString("x4", CultureInfo.InvariantCulture);

    private static Dictionary<string, KnownLocale> Parse(string lines) => lines.Split('\n').Select(l => l.Split(' '))
        .ToDictionary(p => p[0],
            p => new KnownLocale(p[0], ushort.Parse(p[1], NumberStyles.HexNumber, CultureInfo.InvariantCulture), Number10(p[2]),
                Number10(p[3]), p[4]), StringComparer.OrdinalIgnoreCase);

    private static int Number10(string text) => int.Parse(text, CultureInfo.InvariantCulture);
}
