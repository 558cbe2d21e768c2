package ferry; public class Core { public static String say() { return "multi\n"; } }
