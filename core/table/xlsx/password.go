package xlsx

import (
	"bytes"
	"fmt"

	"github.com/xuri/excelize/v2"

	"paletwin/core/table"
)

// Compound starts the files of the Compound File Binary format (MS-CFB):
// workbooks with a password, and those of the time before XLSX.
var Compound = []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")

// encryptedPackage names the stream of an encrypted workbook (MS-OFFCRYPTO
// 2.3.4.4), as a compound file's directory writes it.
var encryptedPackage = []byte("E\x00n\x00c\x00r\x00y\x00p\x00t\x00e\x00d\x00P\x00a\x00c\x00k\x00a\x00g\x00e\x00")

// Plain returns a workbook without its password, which the options hold; one
// that has none is returned as it is. Errors are *table.Error.
func Plain(name string, data []byte, o table.Options) (plain []byte, err error) {
	switch {
	case !bytes.HasPrefix(data, Compound):
		return data, nil
	case !bytes.Contains(data, encryptedPackage):
		return nil, &table.Error{Code: table.Binary, File: name, Text: "the file is an old .xls workbook"}
	case o.Password == "":
		return nil, &table.Error{Code: table.Locked, File: name, Text: "the workbook has a password"}
	}
	defer func() {
		if r := recover(); r != nil { // the library's, on a damaged file
			err = broken(name, fmt.Sprintf("the workbook cannot be decrypted: %v", r))
		}
	}()
	plain, err = excelize.Decrypt(data, &excelize.Options{Password: o.Password})
	if err != nil || !bytes.HasPrefix(plain, []byte("PK")) {
		return nil, &table.Error{Code: table.Locked, File: name, Text: "the workbook's password is another than the one given"}
	}
	return plain, nil
}

// Locked returns a workbook with the password of the options, where the one that it was made of has it.
func Locked(plain, of []byte, o table.Options) ([]byte, error) {
	if !bytes.HasPrefix(of, Compound) {
		return plain, nil
	}
	return excelize.Encrypt(plain, &excelize.Options{Password: o.Password})
}
