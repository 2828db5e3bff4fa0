import java.nio.file.Files;
import java.nio.file.Paths;
import java.security.AlgorithmParameters;
import java.security.KeyFactory;
import java.security.KeyPairGenerator;
import java.security.PrivateKey;
import javax.crypto.Cipher;
import javax.crypto.EncryptedPrivateKeyInfo;
import javax.crypto.SecretKey;
import javax.crypto.SecretKeyFactory;
import javax.crypto.spec.PBEKeySpec;

/** Opens a sealed key that others wrote, or writes one: open|write FILE ALGORITHM PASSPHRASE SCHEME. */
public class EncryptedKey {
    public static void main(String[] args) throws Exception {
        byte[] data = args[0].equals("open") ? Files.readAllBytes(Paths.get(args[1])) : null;
        PBEKeySpec spec = new PBEKeySpec(args[3].toCharArray());
        if (data != null) {
            EncryptedPrivateKeyInfo info = new EncryptedPrivateKeyInfo(data);
            String scheme = info.getAlgParameters().toString();
            SecretKey key = SecretKeyFactory.getInstance(scheme).generateSecret(spec);
            Cipher cipher = Cipher.getInstance(scheme);
            cipher.init(Cipher.DECRYPT_MODE, key, info.getAlgParameters());
            PrivateKey opened = KeyFactory.getInstance(args[2]).generatePrivate(info.getKeySpec(cipher));
            System.out.println("opened " + opened.getAlgorithm());
            return;
        }
        KeyPairGenerator generator = KeyPairGenerator.getInstance(args[2]);
        generator.initialize(args[2].equals("EC") ? 256 : 2048);
        Cipher cipher = Cipher.getInstance(args[4]);
        cipher.init(Cipher.ENCRYPT_MODE, SecretKeyFactory.getInstance(args[4]).generateSecret(spec));
        byte[] sealed = cipher.doFinal(generator.generateKeyPair().getPrivate().getEncoded());
        AlgorithmParameters parameters = cipher.getParameters();
        byte[] pbes2 = {6, 9, 0x2a, (byte) 0x86, 0x48, (byte) 0x86, (byte) 0xf7, 0x0d, 1, 5, 13};
        Files.write(Paths.get(args[1]), der(0x30, der(0x30, pbes2, parameters.getEncoded()), der(0x04, sealed)));
    }

    /** One ASN.1 element; the runtime has no class that writes PBES2 around its own parameters. */
    static byte[] der(int tag, byte[]... parts) throws Exception {
        java.io.ByteArrayOutputStream body = new java.io.ByteArrayOutputStream();
        for (byte[] part : parts) {
            body.write(part);
        }
        java.io.ByteArrayOutputStream out = new java.io.ByteArrayOutputStream();
        out.write(tag);
        if (body.size() < 128) {
            out.write(body.size());
        } else if (body.size() < 256) {
            out.write(0x81);
            out.write(body.size());
        } else {
            out.write(0x82);
            out.write(body.size() >> 8);
            out.write(body.size());
        }
        body.writeTo(out);
        return out.toByteArray();
    }
}
