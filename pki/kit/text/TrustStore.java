import java.io.ByteArrayOutputStream;
import java.io.File;
import java.io.FileInputStream;
import java.io.InputStream;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.security.KeyStore;
import java.security.MessageDigest;
import java.security.cert.Certificate;
import java.security.cert.CertificateFactory;

/**
 * Puts the roots of @MARK@ into this Java runtime's own store, takes them out, or says
 * whether they are there, with the runtime's classes alone. Run twice it does no more than
 * run once. It touches no other entry.
 *
 *   java TrustStore.java install|remove|check [--dry-run] [--store FILE] [--password-in FILE]
 *
 * Exit status: 0 done, or all there; 1 failed; 2 wrong usage; 4 (check) not all there.
 */
public class TrustStore {
    // file and SHA-256 fingerprint of each root
    static final String[] ANCHORS = {
@JAVA_ANCHORS@
    };

    static char[] password = "changeit".toCharArray();

    public static void main(String[] args) throws Exception {
        String act = args.length > 0 ? args[0] : "", dry = "";
        Path store = Path.of(System.getProperty("java.home"), "lib", "security", "cacerts");
        for (int i = 1; i < args.length; i++) {
            if (args[i].equals("--dry-run")) {
                dry = "yes";
            } else if (args[i].equals("--store") && i + 1 < args.length) {
                store = Path.of(args[++i]);
            } else if (args[i].equals("--password-in") && i + 1 < args.length) {
                password = Files.readString(Path.of(args[++i])).strip().toCharArray();
            } else {
                act = "";
            }
        }
        if (!act.equals("install") && !act.equals("remove") && !act.equals("check")) {
            System.err.println("use: java TrustStore.java install|remove|check [--dry-run] [--store FILE] "
                    + "[--password-in FILE]");
            System.exit(2);
        }
        try {
            System.exit(run(act, store, !dry.isEmpty()));
        } catch (java.io.IOException | java.security.GeneralSecurityException e) {
            System.err.println("TrustStore: " + store + ": " + e);
            System.err.println("nothing was changed; are administrator rights needed, or --password-in FILE?");
            System.exit(1);
        }
    }

    static int run(String act, Path path, boolean dry) throws Exception {
        path = path.toRealPath();
        KeyStore store = KeyStore.getInstance(path.toFile(), password);
        boolean changed = false, missing = false;
        for (String line : ANCHORS) {
            String name = line.split(" ")[0], sum = line.split(" ")[1], alias = name.substring(0, name.lastIndexOf('.'));
            Certificate root = read(name, sum);
            String there = entryOf(store, root);
            if (act.equals("check")) {
                System.out.println((there == null ? "missing  " : "there    ") + name);
                missing |= there == null;
            } else if (act.equals("install") && there == null) {
                System.out.println("install " + name + " into " + path);
                store.setCertificateEntry(alias, root);
                changed = true;
            } else if (act.equals("remove") && store.isCertificateEntry(alias) && root.equals(store.getCertificate(alias))) {
                System.out.println("remove " + name + " from " + path);
                store.deleteEntry(alias);
                changed = true;
            }
        }
        if (!changed && !act.equals("check")) {
            System.out.println("nothing to do");
        }
        if (changed && !dry) {
            write(store, path);
        }
        return missing ? 4 : 0;
    }

    static String entryOf(KeyStore store, Certificate root) throws Exception {
        for (String alias : java.util.Collections.list(store.aliases())) {
            if (store.isCertificateEntry(alias) && root.equals(store.getCertificate(alias))) {
                return alias;
            }
        }
        return null;
    }

    // write replaces the store in one step, so that no program ever reads half of it.
    static void write(KeyStore store, Path path) throws Exception {
        ByteArrayOutputStream whole = new ByteArrayOutputStream();
        store.store(whole, password);
        Path made = Files.createTempFile(path.getParent(), "cacerts", ".new");
        try {
            Files.write(made, whole.toByteArray());
            try {
                Files.setPosixFilePermissions(made, Files.getPosixFilePermissions(path));
            } catch (UnsupportedOperationException e) {
                // a system without such modes
            }
            Files.move(made, path, StandardCopyOption.ATOMIC_MOVE, StandardCopyOption.REPLACE_EXISTING);
        } finally {
            Files.deleteIfExists(made);
        }
    }

    // read reads a root beside this file, and compares its fingerprint.
    static Certificate read(String name, String sum) throws Exception {
        String here = System.getProperty("jdk.launcher.sourcefile", "TrustStore.java");
        File file = new File(new File(here).getAbsoluteFile().getParentFile(), name);
        try (InputStream in = new FileInputStream(file)) {
            Certificate c = CertificateFactory.getInstance("X.509").generateCertificate(in);
            StringBuilder got = new StringBuilder();
            for (byte b : MessageDigest.getInstance("SHA-256").digest(c.getEncoded())) {
                got.append(String.format("%02x", b));
            }
            if (!got.toString().equals(sum)) {
                throw new java.security.GeneralSecurityException(name + " is not the file of this kit");
            }
            return c;
        }
    }
}
