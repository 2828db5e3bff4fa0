import java.io.FileInputStream;
import java.io.FileOutputStream;
import java.nio.file.Files;
import java.nio.file.Paths;
import java.security.Key;
import java.security.KeyFactory;
import java.security.KeyStore;
import java.security.cert.Certificate;
import java.security.cert.CertificateFactory;
import java.security.cert.X509Certificate;
import java.security.spec.PKCS8EncodedKeySpec;
import java.util.ArrayList;
import java.util.Collection;
import java.util.Collections;
import java.util.List;

/** Opens containers that others wrote, and writes some: see each mode below. */
public class Containers {
    public static void main(String[] args) throws Exception {
        switch (args[0]) {
            case "store": store(args[1], args[2].toCharArray()); break;
            case "p7": p7(args[1]); break;
            case "write-store": writeStore(args[1], args[2].toCharArray(), args[3], args[4], args[5]); break;
            case "write-p7": writeP7(args[1], args[2]); break;
        }
    }

    static void store(String file, char[] password) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        try (FileInputStream in = new FileInputStream(file)) {
            store.load(in, password);
        }
        for (String alias : Collections.list(store.aliases())) {
            if (store.isKeyEntry(alias)) {
                Key key = store.getKey(alias, password);
                Certificate[] chain = store.getCertificateChain(alias);
                System.out.println("key " + alias + " " + key.getAlgorithm() + " " + chain.length);
                for (int i = 0; i + 1 < chain.length; i++) {
                    chain[i].verify(chain[i + 1].getPublicKey());
                }
            } else {
                System.out.println("trusted " + alias);
            }
        }
    }

    static Collection<? extends Certificate> read(String file) throws Exception {
        try (FileInputStream in = new FileInputStream(file)) {
            return CertificateFactory.getInstance("X.509").generateCertificates(in);
        }
    }

    static void p7(String file) throws Exception {
        for (Certificate c : read(file)) {
            System.out.println(((X509Certificate) c).getSubjectX500Principal());
        }
    }

    static void writeStore(String file, char[] password, String chain, String key, String algorithm) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        store.load(null, null);
        store.setKeyEntry("quay gate", KeyFactory.getInstance(algorithm).generatePrivate(new PKCS8EncodedKeySpec(Files.readAllBytes(Paths.get(key)))),
            password, read(chain).toArray(new Certificate[0]));
        try (FileOutputStream out = new FileOutputStream(file)) {
            store.store(out, password);
        }
    }

    static void writeP7(String file, String chain) throws Exception {
        List<Certificate> list = new ArrayList<>(read(chain));
        Files.write(Paths.get(file), CertificateFactory.getInstance("X.509").generateCertPath(list).getEncoded("PKCS7"));
    }
}
